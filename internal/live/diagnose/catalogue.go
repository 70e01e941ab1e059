package diagnose

import (
	"fmt"
	"strings"

	"arithmon/internal/core/site"
)

// Meaning says what a code of findings means in general; a Finding says it of its subject, with the evidence.
type Meaning struct {
	Code Code
	Kind site.Kind // of what it is about at first; one that several of a link share is about the link
	Text string
}

// catalogue explains every code, in the order of the path: the link, the line, the station, the value.
var catalogue = []Meaning{
	{NameUnresolved, site.KindLink, "The host's name is not known to this machine's name service."},
	{HostUnreachable, site.KindLink, "There is no route to the host: wrong network, gateway, mask or cable."},
	{ConnectionRefused, site.KindLink, "The host is there, and nothing listens on the port."},
	{ConnectTimeout, site.KindLink, "Nothing answers at the address: no device, or a firewall that drops what comes."},
	{BindWrong, site.KindLink, "The local address or interface that the link is to go out by is not there."},
	{TLSRefused, site.KindLink, "No secured connection comes about: certificates, names or versions do not fit."},
	{TransportDiffers, site.KindLink, "The device wants a secured connection and the link opens a plain one, or the reverse."},
	{PortMissing, site.KindLink, "The serial port is not there, or cannot be set as the link says."},
	{RTSMissing, site.KindLink, "The serial port has no RTS line that can be driven, and the link wants it driven."},
	{PortTaken, site.KindLink, "Another program, or another link, has the port."},
	{NoModem, site.KindLink, "No modem answers on the port."},
	{CallFails, site.KindLink, "The modem dials, and no call comes about."},
	{LineSilent, site.KindLink, "Requests go out, and not a byte comes back from anything on the line."},
	{LineSettings, site.KindLink, "Bytes come back and every checksum fails: baud, parity or stop bits differ from those of the devices."},
	{LineNoise, site.KindLink, "Some frames are damaged: noise, termination, or a second master."},
	{Echo, site.KindLink, "What is sent comes back: the adapter echoes it."},
	{ClosesConnection, site.KindLink, "The far end takes the connection and closes it again."},
	{ConnectionLimit, site.KindLink, "The device takes fewer connections than the link opens."},
	{NotTheProtocol, site.KindLink, "Something answers, and not in the protocol or framing of the link."},
	{FramingDiffers, site.KindLink, "The device speaks the protocol in another framing than the link."},
	{InternalFault, site.KindLink, "A fault of this program ended a session; it was opened again."},
	{PollsLate, site.KindLink, "More is asked for than there is time for, so that values are older than their points say."},
	{UnitSilent, site.KindStation, "Others on the link answer, and this unit does not."},
	{OtherUnit, site.KindStation, "The device answers with another unit number."},
	{UnitOfAnother, site.KindStation, "The unit that answers is that of another station."},
	{UnitDamaged, site.KindStation, "Frames of this unit are damaged, and those of its neighbours are not: its transceiver, its cable or its settings."},
	{UnitTwice, site.KindStation, "Two devices have the same unit number and answer at once."},
	{GatewayPath, site.KindStation, "The gateway has no path to the unit (exception 10): its table of units."},
	{GatewayTarget, site.KindStation, "The gateway gets no response from the unit (exception 11): the line behind it."},
	{FunctionRefused, site.KindStation, "The device does not have the function (exception 1)."},
	{AddressRefused, site.KindStation, "The device does not have the addresses (exception 2)."},
	{ValueRefused, site.KindStation, "The device does not take the value or the length (exception 3)."},
	{DeviceFailure, site.KindStation, "The device says that it failed (exception 4)."},
	{TimeoutShort, site.KindStation, "The device answers later than the timeout allows."},
	{ShortResponse, site.KindStation, "Responses have fewer data than were asked for."},
	{IdentifierIgnored, site.KindStation, "Responses do not carry the transaction identifier of their request."},
	{AnswersMalformed, site.KindStation, "Responses do not fit their requests."},
	{AnswersMissing, site.KindStation, "Some requests stay without a response while others are answered in time."},
	{ExtraBytes, site.KindStation, "Bytes of no frame come between responses; they are left out."},
	{LengthLimit, site.KindStation, "The device answers short requests and leaves longer ones without a response."},
	{DeviceBusy, site.KindStation, "The device asks to be asked later (exception 5 or 6)."},
	{ExceptionUnknown, site.KindStation, "The device refuses with a code that the standard does not have."},
	{OutstationSilent, site.KindStation, "The outstation does not answer, not even on the data link layer."},
	{OtherOutstation, site.KindStation, "An outstation with another link address answers."},
	{OtherMaster, site.KindStation, "The outstation sends to another master address than the station has."},
	{TwoMasters, site.KindStation, "Another master speaks to the outstation."},
	{ApplicationSilent, site.KindStation, "The data link layer of the outstation answers, and its application layer does not."},
	{FramesDamaged, site.KindStation, "Frames of the outstation are damaged."},
	{ObjectRefused, site.KindStation, "The outstation does not have an object that was asked for, or gives one that cannot be read."},
	{PointsMissing, site.KindStation, "The outstation does not report some of the configured points."},
	{ClassRefused, site.KindStation, "The outstation refuses reads of a class."},
	{ConfirmsLost, site.KindStation, "Confirmations do not reach the outstation, so it reports events again."},
	{EventsLost, site.KindStation, "The outstation's event buffer has overflowed."},
	{ClockWrong, site.KindStation, "The outstation's clock differs from this machine's."},
	{ClockUnset, site.KindStation, "The outstation asks for the time, and the station may not set it."},
	{DeviceRestarts, site.KindStation, "The outstation has restarted several times."},
	{DeviceTrouble, site.KindStation, "The outstation reports trouble of its own."},
	{LocalControl, site.KindStation, "Outputs of the outstation are under local control."},
	{WordOrder, site.KindPoint, "The words or bytes of the value are in another order than the point says."},
	{AddressShifted, site.KindPoint, "The value is read one address too early or too late."},
	{TypeDiffers, site.KindPoint, "The registers hold another type than the point says."},
	{ScalingDiffers, site.KindPoint, "The value is right but for its scaling: a factor, an offset or a raw range is another."},
	{ValueOdd, site.KindPoint, "The value has an implausible magnitude."},
	{CounterFellBack, site.KindPoint, "A value that counts up has fallen."},
	{ClockAsValue, site.KindPoint, "The value counts the seconds, and its unit is none of time."},
	{ValueStands, site.KindPoint, "The value has never moved, while all others of its kind on the station do."},
	{AddressDoubled, site.KindPoint, "Two points that were copied from each other have the same address."},
	{NothingGood, site.KindStation, "No point of the station is good, and nothing that was seen tells why."},
	{EndOfType, site.KindPoint, "The value stands exactly at an end of its type, as devices give it when they have none."},
	{ValueFrozen, site.KindPoint, "The value stands though it used to move, and others still do."},
}

// Catalogue explains the codes of findings.
func Catalogue() []Meaning { return catalogue }

// Cause is what is likely wrong: one of the sentences of the catalogue, with what it names.
type Cause struct {
	Sentence string // its name in the catalogue
	With     map[string]any
}

// because makes a cause of a sentence and what it names: names and values in turn.
func because(sentence string, with ...any) Cause {
	c := Cause{sentence, make(map[string]any, len(with)/2)}
	for i := 0; i+1 < len(with); i += 2 {
		c.With[with[i].(string)] = with[i+1]
	}
	return c
}

// String is the sentence, as a person can act on it.
func (c Cause) String() string {
	text := sentences[c.Sentence]
	for name, value := range c.With {
		text = strings.ReplaceAll(text, "{"+name+"}", fmt.Sprint(value))
	}
	return text
}

// sentences are what findings say of their subjects. What stands in braces is named by the finding.
var sentences = map[string]string{
	"internal-fault":              "A fault of Arithmon itself ended the session of this link; it was opened again. What was received may have caused it.",
	"echo":                        "What is sent comes back: the adapter, or something on the line, echoes it.",
	"connection-limit":            "The device takes {open} connections and refuses more.",
	"not-the-protocol":            "What listens at {place} does not speak {protocol}.",
	"not-the-framing":             "What listens at {place} does not speak {protocol} with framing {framing}.",
	"framing-differs":             "What listens at {place} speaks framing {is}, and the link has {framing}.",
	"line-settings-found":         "The line is set to {is}, and the link to {settings}.",
	"no-checksum-fits":            "Something answers at {place}, and no checksum of framing {framing} fits.",
	"gateway-unit-found":          "Unit {unit} does not answer the gateway. What does, and is no station's: {found}.",
	"length-limit":                "The device leaves reads of more than {longest} {what} at once without a response. Until that is set, longer ones are divided.",
	"polls-late":                  "More is asked for than there is time for: the polls of the link take {load} times the time there is.",
	"port-missing-other":          "The serial port {port} is not there, and {other} is.",
	"two-masters-line":            "Another master asks on the line, too: there are requests that nobody here has made. Frames of both collide, and responses to one may be taken for the other's.",
	"unit-damaged-some":           "Some responses of unit {unit} are damaged, and none of its neighbours': its transceiver, its cable or stub, or its own line settings.",
	"points-moved":                "The outstation does not have {points} of the site's points as they are, and it has {found} of them under another kind.",
	"wants-tls":                   "What listens at {place} speaks TLS, and the link does not.",
	"wants-no-tls":                "What listens at {place} does not speak TLS, and answers without it.",
	"closes-unasked":              "The far end closes a connection to {place} before anything is asked: its places are taken by others, or it does not serve this machine.",
	"closes-unasked-for-ours":     "The far end closes a connection to {place} before anything is asked, while it serves link {other}: it takes one connection, and that has it.",
	"connection-refused-for-ours": "{place} refuses connections, while it serves link {other}: it takes one connection, and that has it.",
	"closes-when-asked":           "The far end takes the connection, and closes it when it is asked.",
	"closes-after-each":           "The far end closes the connection after each request, or soon after.",
	"timeout-short-for-several":   "Responses of {stations} come after the timeout of {timeout} has passed: it is too short, or one of them is slow and keeps the line from the others.",
	"line-silent":                 "Requests go out and not a single byte comes back from anything on the line.",
	"line-settings":               "Bytes come back, and every checksum fails: the line settings differ from those of the devices ({settings} here).",
	"line-noise":                  "Some frames are damaged: noise on the line, missing or doubled termination, or a second master.",
	"name-unresolved":             `The name "{host}" is known to no name server that this machine asks.`,
	"host-unreachable":            "There is no way from this machine to {host}.",
	"connection-refused-now":      "The host is there, and refuses connections at {place}, where it answered before: its service has stopped, or all its connections are taken.",
	"connect-timeout-now":         "Nothing answers at {place} any more, where something did before: its power, or the network between.",
	"connection-refused":          "The host is there, and refuses connections at {place}: nothing listens on that port.",
	"connect-timeout":             "Nothing answers at {place}: no host with that address, or a firewall that keeps silent.",
	"bind-wrong":                  `"{bind}", to go out by, is no address or interface of this machine.`,
	"tls-refused":                 "The secured connection does not come about: certificate or protocol do not fit.",
	"rts-missing":                 "The serial port {port} has no RTS that can be driven, and rts is {rts}.",
	"port-missing":                "The serial port {port} is not there.",
	"port-taken":                  "Another program holds the serial port {port}.",
	"no-modem":                    "The port {port} opens, and no modem answers on it.",
	"two-masters":                 "Another master, at address {other}, asks outstation {outstation}, too.",
	"reports-to-another":          "Outstation {outstation} reports to master {other}, and this one is {master}.",
	"some-frames-damaged":         "Some frames arrive damaged: noise on the way, or something else that speaks at the same time.",
	"function-missing":            "The outstation does not have a function that was asked of it.",
	"object-refused":              "The outstation does not know objects that were asked for, or answers with unknown ones.",
	"class-refused":               "The outstation refuses to read event class {class}: events of that class do not come. Its present values are read instead.",
	"class-0-refused":             "The outstation refuses to read class 0, its present values. They are read kind by kind, as far as it allows that.",
	"points-missing":              "The outstation does not have {points} of the site's points.",
	"confirms-lost":               "The outstation repeats what was confirmed: confirmations do not reach it, or come too late for it.",
	"events-lost":                 "Events were lost: the outstation's buffer overflowed before they were fetched.",
	"clock-wrong":                 "The times of its events are wrong: {how}.",
	"clock-unset":                 "The outstation asks for the time, and nobody sets its clock: the times of its events are not to be trusted.",
	"device-restarts":             "The outstation restarts again and again.",
	"device-trouble":              "The outstation says that it has trouble.",
	"configuration-corrupt":       "The outstation says that its configuration is corrupt.",
	"local-control":               "Outputs of the outstation are switched to local control, so that commands are refused.",
	"other-outstation":            "The outstation's link address is {other}, not {outstation}.",
	"outstation-of-another":       "Outstation {other} answers, which is station {station}; nothing has the address {outstation}.",
	"speaks-to-another":           "Outstation {outstation} speaks to master {other} alone, and this one is {master}.",
	"application-silent":          "Outstation {outstation} is there, and its application does not answer: it listens and is silent.",
	"frames-damaged":              "What comes back is damaged: the CRC of every frame is wrong.",
	"outstation-silent-at":        "{place} takes connections, and outstation {outstation} does not answer.",
	"outstation-silent":           "Outstation {outstation} does not answer.",
	"identifier-ignored":          "The device answers with another transaction identifier than was asked with.",
	"unit-damaged":                "Every response of unit {unit} is damaged, while those of its neighbours are good: its transceiver, its cable or stub, or its own line settings.",
	"unit-twice":                  "Two devices answer to unit {unit} at once.",
	"unit-twice-behind":           "Requests are answered twice: two devices behind it have the unit {unit}, or a gateway says everything twice.",
	"short-response":              "The device gives fewer registers than it was asked for.",
	"responses-invalid":           "The device answers, and its responses are invalid.",
	"some-responses-invalid":      "Some of the device's responses are invalid.",
	"extra-bytes":                 "Bytes that belong to no response come between the responses. They are left out, and the values are right.",
	"answers-missing":             "Some requests stay without a response, while others are answered in time.",
	"unit-of-another":             "Unit {other} answers in the place of unit {unit}, and that is the unit of station {station}.",
	"other-unit":                  "The device answers as unit {other}, not as unit {unit}.",
	"timeout-short":               "Responses come after the timeout of {timeout} has passed: it is too short for this device.",
	"timeout-short-waited":        "Responses come after the timeout of {timeout} has passed: it is too short for this device. Until that is changed it is waited for longer, since responses without identifiers must not be mixed up; the others of the link have to wait meanwhile.",
	"unit-configured-twice":       "Unit {unit} at {place} is configured as station {station}, too, which answers there.",
	"unit-silent-at":              "{place} takes connections, and unit {unit} does not answer.",
	"unit-silent":                 "Unit {unit} does not answer.",
	"unit-silent-at-beside":       "{place} takes connections, and unit {unit} does not answer, while another on the link does.",
	"unit-silent-beside":          "Unit {unit} does not answer, while another on the link does.",
	"unit-silent-at-among":        "{place} takes connections, and unit {unit} does not answer, while {others} others on the link do.",
	"unit-silent-among":           "Unit {unit} does not answer, while {others} others on the link do.",
	"gateway-target":              "The gateway is well, and unit {unit} behind it does not answer the gateway.",
	"gateway-path":                "The gateway has no path to unit {unit}.",
	"device-failure":              "The device says that it failed while it carried requests out.",
	"device-busy":                 "The device says that it is busy with something else.",
	"exception-unknown":           "The device refuses with a code that the standard does not have for reads.",
	"write-function-refused":      "The device does not have function {function} ({name}); {why}.",
	"function-refused":            "The device does not have the function that reads {what}.",
	"address-refused":             "The device has no {what}.",
	"value-refused":               "The device does not read {what} in this way.",
	"some-silent":                 "{n} of {all} stations do not answer, while the others do.",
	"all-silent-at":               "{place} takes connections, and none of its {all} stations answers.",
	"all-silent":                  "None of the {all} stations at {place} answers.",
	"gateway-some-targets":        "The gateway is well, and {n} of {all} units behind it do not answer the gateway.",
	"gateway-no-target":           "The gateway is well, and none of the {all} units behind it answers the gateway: the line on its far side is not.",
	"gateway-paths":               "The gateway has no path to {n} of {all} units.",
	"some-outstations-silent":     "{n} of {all} outstations do not answer, while the others do.",
	"all-outstations-silent":      "None of the {all} outstations at {place} answers.",
	"order-alternates":            "Its value jumps between two magnitudes: the device gives its words now in one order, now in the other.",
	"nothing-good":                "None of the {points} points of the station is good: they are bad ({reason}).",
	"unit-silent-found":           "Unit {unit} does not answer. What does, and is no station's: {found}.",
	"outstation-silent-found":     "Outstation {outstation} does not answer, while a scan of the link found {found}.",
	"end-of-type":                 "It stands at {shown}, which is {code}, an end of its type: many devices give that when they have no value, as with a sensor that failed or is missing.",
	"ends-of-types":               "{points} points stand exactly at an end of their types: many devices give that when they have no value, as with sensors that failed or are missing.",
	"value-frozen":                "It answers, and its values no longer move, though they used to, and others still do.",
	"word-order":                  "Its value is implausible, or jumps; with byte order {order} it would not.",
	"word-order-of-several":       "What each of {points} points shows is implausible, or jumps; with byte order {order} it would not.",
	"address-shifted":             "It reads what is beside: its address is {by} off.",
	"addresses-shifted":           "Each of {points} points reads what is beside: the addresses are {by} off.",
	"type-differs":                "Its registers hold {is}, and it is read as {read}.",
	"types-differ":                "The registers of {points} points hold {is}, and are read as another type.",
	"scaling-differs":             "Its value is outside of what it can be; with another scaling it would not be.",
	"scalings-differ":             "What each of {points} points shows is outside of what it can be; with another scaling it would not be.",
	"counter-fell":                "It counts up, and has fallen from {before} to {after}: it was reset, or it is no counter.",
	"clock-as-value":              "It goes on by one each second, as a clock does, and is said to be in {unit}.",
	"value-stands":                "It has stood at {shown} since it was read first, while all others of its kind move.",
	"address-doubled":             "It reads {address}, as {other} does, which it seems to have been copied from.",
	"value-odd":                   "Its value is implausible, or jumps, and no type, order or address that was tried gives a plausible one.",
	"values-odd":                  "What each of {points} points shows is implausible, or jumps, and no type, order or address that was tried gives a plausible one.",
}
