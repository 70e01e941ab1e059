package dnp3

import (
	"bytes"
	"errors"
)

// The transport octet (IEEE 1815-2012, 8.2.2).
const (
	transportFinal  = 0x80
	transportFirst  = 0x40
	transportNumber = 0x3F
)

// Segments cuts a fragment into segments, each with its transport octet, and numbers them.
type Segments struct {
	fragment []byte
	begun    bool
	room     [MaxUserData]byte
}

// Cut begins with another fragment.
func (s *Segments) Cut(fragment []byte) { s.fragment, s.begun = fragment, false }

// Next returns the next segment, which holds until the next call; nil when there is none. number counts on over all fragments
// of a connection.
func (s *Segments) Next(number *byte) []byte {
	if s.begun && len(s.fragment) == 0 {
		return nil
	}
	octet := *number & transportNumber
	*number++
	if !s.begun {
		octet |= transportFirst
	}
	n := copy(s.room[1:], s.fragment)
	s.begun, s.fragment = true, s.fragment[n:]
	if len(s.fragment) == 0 {
		octet |= transportFinal
	}
	s.room[0] = octet
	return s.room[:n+1]
}

// Opening is what a first segment has of its fragment; nil of others.
func Opening(segment []byte) []byte {
	if len(segment) == 0 || segment[0]&transportFirst == 0 {
		return nil
	}
	return segment[1:]
}

// Errors of Reassembly; what was gathered so far is dropped.
var (
	ErrSegmentOrder = errors.New("a segment is missing or out of order")
	ErrTooLong      = errors.New("the fragment is longer than agreed")
)

// Reassembly puts segments together (8.2.3). Its zero value takes fragments of MaxFragment octets.
type Reassembly struct {
	Limit    int // octets of a fragment; 0: MaxFragment
	fragment []byte
	expected byte
	under    bool   // a series is under way
	last     []byte // the segment before
}

// Add takes the user data of a frame and returns a fragment when that completes one. The fragment holds until the next call,
// and no longer than data.
func (r *Reassembly) Add(data []byte) (fragment []byte, err error) {
	if len(data) == 0 {
		return nil, ErrSegmentOrder
	}
	octet := data[0]
	switch number := octet & transportNumber; {
	case octet&transportFirst != 0: // begins anew, whatever was before: 8.2.3.2 rule 2
		if octet&transportFinal != 0 {
			r.under = false
			return r.limited(data[1:])
		}
		r.fragment, r.under = append(r.fragment[:0], data[1:]...), true
	case !r.under:
		return nil, ErrSegmentOrder
	case len(r.last) > 0 && octet == r.last[0] && number != r.expected && bytes.Equal(data, r.last): // sent again by the data link layer: rule 5
		return nil, nil
	case number != r.expected:
		r.under = false
		return nil, ErrSegmentOrder
	default:
		r.fragment = append(r.fragment, data[1:]...)
	}
	r.expected, r.last = (octet+1)&transportNumber, append(r.last[:0], data...)
	if _, err := r.limited(r.fragment); err != nil {
		r.under = false
		return nil, err
	}
	if octet&transportFinal == 0 {
		return nil, nil
	}
	r.under = false
	return r.fragment, nil
}

func (r *Reassembly) limited(fragment []byte) ([]byte, error) {
	limit := r.Limit
	if limit == 0 {
		limit = MaxFragment
	}
	if len(fragment) > limit {
		return nil, ErrTooLong
	}
	return fragment, nil
}
