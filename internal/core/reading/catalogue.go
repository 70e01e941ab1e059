package reading

// Meaning says what a reason means, and what to do about it.
type Meaning struct {
	Reason  Reason
	Quality Quality // that a reading with it has
	Text    string  // in words
	Try     string  // what to do next
}

// catalogue explains every reason but the device's exceptions, which their protocol explains.
var catalogue = []Meaning{
	{Stale, Uncertain, "no newer value for three polls", "see whether the line is too busy for its polls: arithmon status --figures shows late polls and the share of time that is used"},
	{RawRange, Uncertain, "the raw number is outside the range of its scaling", "compare the raw range of the scaling with the manual; for 4 to 20 mA, look at the wiring and the transmitter"},
	{Forced, Uncertain, "the device says that the value is forced, at the device or by another master", "ask who has forced it; it is released where it was forced"},
	{Restarted, Uncertain, "the device has restarted and has not read this input since", "wait for its next scan; if it stays, look at the input module"},
	{Chatter, Uncertain, "the device says that the input changes too fast to be reported and suppresses it", "look at the contact and its filter time"},
	{TimeUnsynchronised, Uncertain, "the device's clock is not set, so the time of the event may be wrong", "let the station set the clock (time_sync), or find what sets it now"},
	{LastKnown, Uncertain, "the device gives an old value, since it does not get a new one itself", "look at what is behind the device: its input module or its own sub-network"},
	{ReferenceError, Uncertain, "the device's converter has lost its reference, so the number may be wrong", "look at the input module"},
	{Discontinuity, Uncertain, "the counter cannot be compared with what it was before: it was reset, or the module was replaced", "take the new value as a beginning"},
	{NeverRead, Bad, "nothing was read yet", "wait for the first poll; if it stays, arithmon findings says why"},
	{Disabled, Bad, "its link or station is disabled", "enable the link and the station"},
	{LinkDown, Bad, "the link is down", "arithmon link test LINK says whether the far end takes a connection"},
	{Timeout, Bad, "the station did not answer in time", "arithmon station test STATION; look at power, unit number and wiring, then at the timeout"},
	{Checksum, Bad, "what came was damaged: its checksum is wrong", "compare baud, parity and stop bits with the device; then look at shielding, termination and a second device with the same number"},
	{BadResponse, Bad, "invalid response to the request", "arithmon traffic shows it; look at the framing (mbap, rtu, ascii) and at the unit number"},
	{Offline, Bad, "the device says that the point is not in service", "look at the input module, or at how the point is configured in the device"},
	{CommLost, Bad, "the device says that it has lost what is behind it", "look at the device's own sub-network"},
	{SensorFailure, Bad, "the device gives a raw code that says that it has no value", "look at the sensor and its wiring; the raw code is beside the reading"},
	{Decode, Bad, "the raw data are no value of this type: not a number, not BCD or not text", "arithmon lens TAG shows them as every type and byte order"},
}

// Catalogue explains the reasons, those of uncertain readings first. The device's exceptions are further ones.
func Catalogue() []Meaning { return catalogue }

// Explain says in words what a reason means; "" for one that the catalogue does not have.
func (r Reason) Explain() string {
	for i := range catalogue {
		if catalogue[i].Reason == r {
			return catalogue[i].Text
		}
	}
	return ""
}
