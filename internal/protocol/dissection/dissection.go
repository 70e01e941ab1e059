// Package dissection holds what a frame means, field by field, whatever its protocol.
package dissection

// Dissection is what a frame holds.
type Dissection struct {
	Summary string  `json:"summary"`
	Fields  []Field `json:"fields,omitempty"`
}

// Field is one field of a frame.
type Field struct {
	Name  string `json:"name"`
	Value string `json:"value"`
	At    int    `json:"at" doc:"its first byte in the frame, from 0"`
	Bytes int    `json:"bytes" doc:"0 when it began in a frame before"`
}
