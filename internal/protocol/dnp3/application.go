package dnp3

import (
	"errors"
	"fmt"
	"strings"
)

// MaxFragment is the largest fragment that is sent or taken (IEEE 1815-2012, 4.2.1: at least 2048 octets can be received).
const MaxFragment = 2048

// AppControl is the application control octet (4.2.2.2).
type AppControl byte

// Its bits.
const (
	First       AppControl = 0x80
	Final       AppControl = 0x40
	Confirm     AppControl = 0x20 // the sender wants a confirmation
	Unsolicited AppControl = 0x10
	seqMask     AppControl = 0x0F
)

// Seq is the sequence number, 0 to 15.
func (c AppControl) Seq() byte { return byte(c & seqMask) }

func (c AppControl) String() string {
	var set []string
	for _, b := range []struct {
		bit  AppControl
		name string
	}{{First, "first"}, {Final, "final"}, {Confirm, "confirm"}, {Unsolicited, "unsolicited"}} {
		if c&b.bit != 0 {
			set = append(set, b.name)
		}
	}
	return strings.Join(append(set, fmt.Sprintf("sequence %d", c.Seq())), ", ")
}

// Function is the function code of a fragment (4.2.2.5).
type Function byte

// The function codes.
const (
	FuncConfirm            Function = 0
	FuncRead               Function = 1
	FuncWrite              Function = 2
	FuncSelect             Function = 3
	FuncOperate            Function = 4
	FuncDirectOperate      Function = 5
	FuncDirectOperateNR    Function = 6
	FuncFreeze             Function = 7
	FuncFreezeNR           Function = 8
	FuncFreezeClear        Function = 9
	FuncFreezeClearNR      Function = 10
	FuncFreezeAtTime       Function = 11
	FuncFreezeAtTimeNR     Function = 12
	FuncColdRestart        Function = 13
	FuncWarmRestart        Function = 14
	FuncEnableUnsolicited  Function = 20
	FuncDisableUnsolicited Function = 21
	FuncAssignClass        Function = 22
	FuncDelayMeasure       Function = 23
	FuncRecordTime         Function = 24
	FuncResponse           Function = 129
	FuncUnsolicited        Function = 130
)

var functionNames = map[Function]string{
	FuncConfirm: "confirm", FuncRead: "read", FuncWrite: "write", FuncSelect: "select", FuncOperate: "operate",
	FuncDirectOperate: "direct operate", FuncDirectOperateNR: "direct operate, no acknowledgement",
	FuncFreeze: "immediate freeze", FuncFreezeNR: "immediate freeze, no acknowledgement",
	FuncFreezeClear: "freeze and clear", FuncFreezeClearNR: "freeze and clear, no acknowledgement",
	FuncFreezeAtTime: "freeze at time", FuncFreezeAtTimeNR: "freeze at time, no acknowledgement",
	FuncColdRestart: "cold restart", FuncWarmRestart: "warm restart",
	FuncEnableUnsolicited: "enable unsolicited responses", FuncDisableUnsolicited: "disable unsolicited responses",
	FuncAssignClass: "assign class", FuncDelayMeasure: "delay measurement", FuncRecordTime: "record current time",
	FuncResponse: "response", FuncUnsolicited: "unsolicited response",
}

// Functions names the functions by their codes.
func Functions() map[int]string {
	all := map[int]string{}
	for f, name := range functionNames {
		all[int(f)] = name
	}
	return all
}

func (f Function) String() string {
	if name, ok := functionNames[f]; ok {
		return name
	}
	return fmt.Sprintf("function %d", byte(f))
}

// Response reports whether a fragment with this function comes from an outstation.
func (f Function) Response() bool { return f >= FuncResponse }

// Unanswered reports whether a request with this function asks for no response.
func (f Function) Unanswered() bool {
	switch f {
	case FuncConfirm, FuncDirectOperateNR, FuncFreezeNR, FuncFreezeClearNR, FuncFreezeAtTimeNR:
		return true
	}
	return false
}

// IIN are the internal indications of a response (4.2.2.6), IIN1 in the low octet.
type IIN uint16

// The indications.
const (
	IINBroadcast      IIN = 1 << 0
	IINClass1         IIN = 1 << 1
	IINClass2         IIN = 1 << 2
	IINClass3         IIN = 1 << 3
	IINNeedTime       IIN = 1 << 4
	IINLocalControl   IIN = 1 << 5
	IINTrouble        IIN = 1 << 6
	IINRestart        IIN = 1 << 7
	IINNoFunction     IIN = 1 << 8
	IINUnknownObject  IIN = 1 << 9
	IINParameterError IIN = 1 << 10
	IINOverflow       IIN = 1 << 11
	IINExecuting      IIN = 1 << 12
	IINCorrupt        IIN = 1 << 13

	// IINRefused are those that say that the request was not, or not wholly, carried out.
	IINRefused = IINNoFunction | IINUnknownObject | IINParameterError
	// IINEvents are those that say that there are events.
	IINEvents = IINClass1 | IINClass2 | IINClass3
)

var iinNames = [...]string{
	"broadcast received", "class 1 events", "class 2 events", "class 3 events", "needs the time", "points in local control", "device trouble", "restarted",
	"function not supported", "object unknown", "parameter error", "event buffer overflow", "already executing", "configuration corrupt", "reserved 1", "reserved 2",
}

// Names are the indications that are set, in words.
func (i IIN) Names() (list []string) {
	for bit, name := range iinNames {
		if i>>bit&1 != 0 {
			list = append(list, name)
		}
	}
	return list
}

func (i IIN) String() string {
	if i == 0 {
		return "none"
	}
	return strings.Join(i.Names(), ", ")
}

// Fragment is a message of the application layer, or a part of one.
type Fragment struct {
	Control  AppControl
	Function Function
	IIN      IIN    // of responses
	Objects  []byte // headers and objects
}

// ErrShort is a fragment that ends too early.
var ErrShort = errors.New("the fragment ends too early")

// ParseFragment reads a fragment; its objects are a part of b.
func ParseFragment(b []byte) (f Fragment, err error) {
	if len(b) < 2 {
		return f, ErrShort
	}
	f.Control, f.Function, f.Objects = AppControl(b[0]), Function(b[1]), b[2:]
	if f.Function.Response() {
		if len(b) < 4 {
			return f, ErrShort
		}
		f.IIN, f.Objects = IIN(b[2])|IIN(b[3])<<8, b[4:]
	}
	return f, nil
}

// AppendFragment appends f as it goes over the wire.
func AppendFragment(b []byte, f Fragment) []byte {
	b = append(b, byte(f.Control), byte(f.Function))
	if f.Function.Response() {
		b = append(b, byte(f.IIN), byte(f.IIN>>8))
	}
	return append(b, f.Objects...)
}
