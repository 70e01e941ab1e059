package site

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
)

// States names values of a point, or the bits of one of type bits. In JSON and YAML it is a list, which counts
// from 0, or a map from number to name.
type States map[int64]string

// MaxStates is the most names a point has.
const MaxStates = 1000

// UnmarshalJSON reads ["closed","open"] or {"0":"stopped","5":"tripped"}.
func (s *States) UnmarshalJSON(b []byte) error {
	var list []string
	if json.Unmarshal(b, &list) == nil {
		*s = make(States, len(list))
		for i, name := range list {
			(*s)[int64(i)] = name
		}
		return nil
	}
	var named map[string]string
	if err := json.Unmarshal(b, &named); err != nil {
		return fmt.Errorf("must be a list of names, such as [closed, open], or a map such as {0: stopped, 5: tripped}")
	}
	*s = make(States, len(named))
	for number, name := range named {
		n, err := strconv.ParseInt(number, 0, 64)
		if err != nil {
			return fmt.Errorf("%q is no whole number to give a name to", number)
		}
		(*s)[n] = name
	}
	return nil
}

// MarshalJSON writes a list when the names count from 0 without a gap, otherwise a map.
func (s States) MarshalJSON() ([]byte, error) {
	list := make([]string, 0, len(s))
	for i := range int64(len(s)) {
		name, ok := s[i]
		if !ok {
			return json.Marshal(map[int64]string(s))
		}
		list = append(list, name)
	}
	return json.Marshal(list)
}

// Find returns the value that carries name; case does not matter.
func (s States) Find(name string) (int64, bool) {
	for _, n := range s.numbers() {
		if strings.EqualFold(s[n], name) {
			return n, true
		}
	}
	return 0, false
}

// Names lists the names in the order of their numbers.
func (s States) Names() []string {
	names := make([]string, 0, len(s))
	for _, n := range s.numbers() {
		names = append(names, s[n])
	}
	return names
}

// SetBits names the bits that are set in v: "running, fault"; unnamed ones by number; "none" when none is set.
func (s States) SetBits(v uint64) string {
	var set []string
	for bit := range int64(64) {
		if v>>uint(bit)&1 == 0 {
			continue
		}
		name := s[bit]
		if name == "" {
			name = "bit " + strconv.FormatInt(bit, 10)
		}
		set = append(set, name)
	}
	if set == nil {
		return "none"
	}
	return strings.Join(set, ", ")
}

func (s States) numbers() []int64 { return slices.Sorted(maps.Keys(s)) }
