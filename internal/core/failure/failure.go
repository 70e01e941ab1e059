// Package failure names the reasons for which a path to devices does not open.
package failure

// Kind is why a path does not open.
type Kind string

// The kinds of failure. The empty one is any other.
const (
	Name        Kind = "name"        // the host's name does not resolve
	Unreachable Kind = "unreachable" // there is no route to the host
	Refused     Kind = "refused"     // nothing listens on the port
	Timeout     Kind = "timeout"     // nothing answers
	Bind        Kind = "bind"        // the local address or interface is not there
	TLS         Kind = "tls"         // no secured connection comes about
	Port        Kind = "port"        // the serial port is not there, or cannot be set so
	Taken       Kind = "taken"       // another program has the port
	RTS         Kind = "rts"         // the serial port has no RTS that can be driven
	Modem       Kind = "modem"       // no modem answers

	Busy       Kind = "busy"        // the number that is called is
	NoAnswer   Kind = "no-answer"   // nobody takes the call
	NoCarrier  Kind = "no-carrier"  // the call ends before there is a connection
	NoDialtone Kind = "no-dialtone" // the modem does not hear that it may dial
	Undialled  Kind = "undialled"   // the modem does not take the command to dial
)
