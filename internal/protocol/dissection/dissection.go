// Package dissection holds what a frame means, field by field, whatever its protocol.
package dissection

// Dissection is what a frame holds.
type Dissection struct {
	Summary string
	Fields  []Field
}

// Field is one field of a frame.
type Field struct {
	Name  string
	Value string
	At    int // its first byte in the frame, from 0
	Bytes int // 0 when it began in a frame before
	Of    Addresses
}

// Addresses are those of a device that a field is about; its zero is none.
type Addresses struct {
	Space       string // as in an address: hr, ai
	From, Count int
}
