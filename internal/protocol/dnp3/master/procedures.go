package master

import (
	"bytes"
	"errors"
	"fmt"
	"time"

	"arithmon/internal/core/codec"
	"arithmon/internal/protocol/dnp3"
)

// RefusedError is a response that says that the request was not carried out.
type RefusedError struct {
	Function dnp3.Function
	IIN      dnp3.IIN
}

func (e *RefusedError) Error() string {
	return fmt.Sprintf("the outstation refuses %s: %s", e.Function, e.IIN&(dnp3.IINRefused|dnp3.IINExecuting))
}

// do asks and makes a refusal of the indications that are one.
func (o *Outstation) do(f dnp3.Function, objects []byte, each func(dnp3.Fragment)) (Answer, error) {
	a, err := o.Ask(f, objects, each)
	if err == nil && a.IIN&dnp3.IINRefused != 0 {
		err = &RefusedError{f, a.IIN}
	}
	return a, err
}

// Classes are event classes: bit 0 is class 0, the present values.
type Classes byte

// The usual ones.
const (
	Class0 Classes = 1 << iota
	Class1
	Class2
	Class3
	Events = Class1 | Class2 | Class3
)

// append appends headers of classes, class 0 last, so that events come before what they led to (4.4.2).
func (c Classes) append(b []byte) []byte {
	for _, class := range []byte{1, 2, 3, 0} {
		if c>>class&1 != 0 {
			b = dnp3.AppendHeader(b, dnp3.Header{Group: 60, Variation: class + 1, Qualifier: dnp3.All})
		}
	}
	return b
}

// Read reads classes.
func (o *Outstation) Read(c Classes, each func(dnp3.Fragment)) (Answer, error) {
	return o.do(dnp3.FuncRead, c.append(nil), each)
}

// ReadObjects reads what headers ask for.
func (o *Outstation) ReadObjects(headers []byte, each func(dnp3.Fragment)) (Answer, error) {
	return o.do(dnp3.FuncRead, headers, each)
}

// Unsolicited switches unsolicited responses of classes on or off.
func (o *Outstation) Unsolicited(on bool, c Classes) (Answer, error) {
	f := dnp3.FuncDisableUnsolicited
	if on {
		f = dnp3.FuncEnableUnsolicited
	}
	return o.do(f, (c &^ Class0).append(nil), nil)
}

// ClearRestart clears the indication that the outstation restarted (4.4.6.6).
func (o *Outstation) ClearRestart() (Answer, error) {
	b := dnp3.AppendHeader(nil, dnp3.Header{Group: 80, Variation: 1, Qualifier: dnp3.Range8, Start: 7, Count: 1})
	return o.do(dnp3.FuncWrite, append(b, 0), nil)
}

// SetTimeLAN sets the clock of an outstation on a network: both note when the last octet of a request is sent and comes, and the
// outstation is told afterwards what time that was (10.3.3).
func (o *Outstation) SetTimeLAN() error {
	a, err := o.do(dnp3.FuncRecordTime, nil, nil)
	if err != nil {
		return err
	}
	_, err = o.do(dnp3.FuncWrite, dnp3.AppendTimeObject(nil, 3, dnp3.TimeOf(a.Sent)), nil)
	return err
}

// SetTimeSerial sets the clock of an outstation on a line: the delay is measured and added to the time at which the request with it
// begins to be sent (10.3.2).
func (o *Outstation) SetTimeSerial() (delay time.Duration, err error) {
	if delay, err = o.Delay(); err != nil {
		return 0, err
	}
	a, err := o.askAt(dnp3.FuncWrite, func(now time.Time) []byte { return dnp3.AppendTimeObject(nil, 1, dnp3.TimeOf(now.Add(delay))) }, nil)
	if err == nil && a.IIN&dnp3.IINRefused != 0 {
		err = &RefusedError{dnp3.FuncWrite, a.IIN}
	}
	return delay, err
}

// Delay measures how long a message takes one way: from the first octet of the request to the first octet of the response, less the
// time that the outstation says it had in between, halved (10.3.2).
func (o *Outstation) Delay() (time.Duration, error) {
	inside := -1
	a, err := o.do(dnp3.FuncDelayMeasure, nil, func(f dnp3.Fragment) {
		objects := dnp3.ReadObjects(f.Objects, dnp3.FuncResponse)
		for objects.Next() {
			if objects.Header.Group == 52 && objects.Plain() && len(objects.Body) >= 2 {
				inside = dnp3.ReadDelay(objects.Header.Variation, objects.Body)
			}
		}
	})
	if err == nil && inside < 0 {
		err = errors.New("the response to delay measurement has no time delay (group 52)")
	}
	return max(0, a.Came.Sub(a.Began)-time.Duration(inside)*time.Millisecond) / 2, err
}

// Clock reads the time as the outstation has it, and when that was here.
func (o *Outstation) Clock() (theirs dnp3.Time, ours time.Time, err error) {
	h := dnp3.AppendHeader(nil, dnp3.Header{Group: 50, Variation: 1, Qualifier: dnp3.Count8, Count: 1})
	found := false
	a, err := o.do(dnp3.FuncRead, h, func(f dnp3.Fragment) {
		objects := dnp3.ReadObjects(f.Objects, dnp3.FuncResponse)
		for objects.Next() {
			if objects.Header.Group == 50 && objects.Header.Variation == 1 && objects.Plain() && len(objects.Body) >= 6 {
				theirs, found = dnp3.ReadTime(objects.Body), true
			}
		}
	})
	if err == nil && !found {
		err = errors.New("it does not say its time")
	}
	return theirs, a.Sent.Add(a.Took / 2), err
}

// AssignClass gives points of a group another class: 0 to 3.
func (o *Outstation) AssignClass(class int, group byte, index uint16) error {
	b := dnp3.AppendHeader(nil, dnp3.Header{Group: 60, Variation: byte(class + 1), Qualifier: dnp3.All})
	b = dnp3.AppendRange(b, group, 0, uint32(index), 1)
	_, err := o.do(dnp3.FuncAssignClass, b, nil)
	return err
}

// WriteDeadband sets the deadband of an analog input (A.34), in single precision.
func (o *Outstation) WriteDeadband(index uint16, v float64) error {
	b := dnp3.AppendRange(nil, 34, 3, uint32(index), 1)
	_, err := o.do(dnp3.FuncWrite, dnp3.AppendDeadband(b, 3, v), nil)
	return err
}

// Attributes reads the device attributes of the standard's own set.
func (o *Outstation) Attributes() (list []dnp3.Attribute, err error) {
	h := dnp3.AppendHeader(nil, dnp3.Header{Group: 0, Variation: dnp3.AttributeAll, Qualifier: dnp3.Range8, Count: 1})
	_, err = o.do(dnp3.FuncRead, h, func(f dnp3.Fragment) {
		objects := dnp3.ReadObjects(f.Objects, dnp3.FuncResponse)
		for objects.Next() {
			if objects.Header.Group == 0 {
				for _, a := range dnp3.ReadAttributes(&objects) {
					a.Data = bytes.Clone(a.Data)
					list = append(list, a)
				}
			}
		}
	})
	return list, err
}

// Command is something to command an output to.
type Command struct {
	Index  uint16
	Output *dnp3.Output        // a binary output
	Analog *dnp3.AnalogCommand // or an analog one
}

// Mode is how a command is given.
type Mode byte

// The modes.
const (
	SelectOperate Mode = iota // select, then operate: what the outstation understood is checked before anything moves
	Direct
	DirectUnanswered
)

// CommandError is a command that was answered with another status than success.
type CommandError struct {
	Function dnp3.Function
	Status   dnp3.Status
}

func (e *CommandError) Error() string { return fmt.Sprintf("%s: %s", e.Function, e.Status) }

// EchoError is a select or operate that was answered with other objects than were sent.
type EchoError struct{ Function dnp3.Function }

func (e *EchoError) Error() string {
	return fmt.Sprintf("the response to %s repeats something else than was sent", e.Function)
}

// object is the command with its header.
func (c Command) object() ([]byte, error) {
	group, variation := byte(12), byte(1)
	if c.Analog != nil {
		group, variation = 41, c.Analog.Variation
	}
	b, octets := dnp3.AppendIndex(nil, group, variation, 1, c.Index)
	b = append(b, byte(c.Index))
	if octets == 2 {
		b = append(b, byte(c.Index>>8))
	}
	if c.Analog != nil {
		return dnp3.AppendAnalogCommand(b, *c.Analog)
	}
	return dnp3.AppendOutput(b, *c.Output), nil
}

// Command gives a command. reached says whether anything was sent that may have moved the output; of a failed select it is false.
func (o *Outstation) Command(c Command, mode Mode) (reached bool, err error) {
	object, err := c.object()
	if err != nil {
		return false, err
	}
	switch mode {
	case Direct:
		return true, o.control(dnp3.FuncDirectOperate, object)
	case DirectUnanswered:
		_, err := o.Ask(dnp3.FuncDirectOperateNR, object, nil)
		return true, err
	}
	if err := o.control(dnp3.FuncSelect, object); err != nil {
		return false, err
	}
	return true, o.control(dnp3.FuncOperate, object)
}

// control sends one request with a command and compares the response.
func (o *Outstation) control(f dnp3.Function, object []byte) error {
	var said []byte
	a, err := o.Ask(f, object, func(f dnp3.Fragment) { said = append(said, f.Objects...) })
	switch {
	case err != nil:
		return err
	case len(said) == len(object) && said[len(said)-1]&0x7F != 0:
		return &CommandError{f, dnp3.Status(said[len(said)-1] & 0x7F)}
	case a.IIN&(dnp3.IINRefused|dnp3.IINExecuting) != 0:
		return &RefusedError{f, a.IIN}
	case !bytes.Equal(said, object):
		return &EchoError{f}
	}
	return nil
}

// NumberFits reports whether a number is one that a variation of group 41 carries.
func NumberFits(variation byte, v codec.Value) bool {
	_, err := dnp3.AppendAnalogCommand(nil, dnp3.AnalogCommand{Variation: variation, Value: v})
	return err == nil
}
