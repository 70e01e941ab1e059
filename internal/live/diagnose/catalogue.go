package diagnose

import "arithmon/internal/core/site"

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
	{PortMissing, site.KindLink, "The serial port is not there, or cannot be set as the link says."},
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
	{InternalFault, site.KindLink, "A fault of this program ended a session; it was opened again."},
	{UnitSilent, site.KindStation, "Others on the link answer, and this unit does not."},
	{OtherUnit, site.KindStation, "The device answers with another unit number."},
	{UnitOfAnother, site.KindStation, "The unit that answers is that of another station."},
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
	{ValueOdd, site.KindPoint, "The value has an implausible magnitude."},
	{ValueFrozen, site.KindPoint, "The value stands though it used to move, and others still do."},
}

// Catalogue explains the codes of findings.
func Catalogue() []Meaning { return catalogue }
