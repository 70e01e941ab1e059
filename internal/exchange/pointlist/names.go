package pointlist

import (
	"fmt"
	"regexp"
	"strings"
)

// The tag of a row.

// nameIn is what a description names, without a remark behind it, its unit and its step: Flow rate, l/s x10; Speed in 0.1 Hz.
func nameIn(description string) string {
	name := namesIn.ReplaceAllString(description, "")
	for _, behind := range []*regexp.Regexp{bracketed, rounded} {
		if m := behind.FindStringSubmatch(name); m != nil {
			if _, u, err := stepped(m[1]); err == nil && u != "" || timesTold.MatchString(m[1]) {
				name = behind.ReplaceAllString(name, "")
			}
		}
	}
	for _, behind := range []*regexp.Regexp{stepTold, timesTold, unitTold} {
		name = behind.ReplaceAllString(name, "")
	}
	if at := strings.IndexAny(name, ",;"); at >= leastName {
		name = name[:at]
	}
	if len(strings.TrimSpace(name)) < leastName {
		name = description
	}
	return strings.ReplaceAll(name, "/", "-") // which parts no areas here
}

// leastName is how much of a description is left at least that a tag is made of.
const leastName = 3

// tag makes the tag: as written where that is allowed, else in an allowed form; without one, of what is said of the point.
func (m *making) tag(exact bool) {
	written := m.cells["tag"]
	tag := written
	if !exact || written == "" {
		tag = tagOf(written)
	}
	switch {
	case tag != "" && tag != written:
		m.item.Made = fmt.Sprintf("%q is no tag; %s is", written, m.prefixed(tag, m.station()))
	case tag == "" && m.cells["description"] != "":
		if tag = strings.ToLower(tagOf(nameIn(m.cells["description"]))); tag != "" {
			m.item.Made = "made of the description"
		}
	}
	if tag == "" {
		tag = "point-" + strings.ToLower(tagOf(strings.ReplaceAll(m.cells["address"], ":", "-")))
		m.item.Made = "made of the address"
	}
	tag = m.prefixed(tag, m.station())
	if m.tags[tag]++; m.tags[tag] == 1 {
		m.first[tag] = m.station()
	} else {
		was := tag
		if m.first[tag] != m.station() {
			m.once("some tags come once for each station, and are numbered; to put the name of the station before each tag instead, say --prefix '{station}/'")
		}
		for n := m.tags[tag]; ; n++ {
			if tag = fmt.Sprintf("%s-%d", was, n); m.tags[tag] == 0 {
				break
			}
		}
		m.tags[tag]++
		m.item.Made = fmt.Sprintf("%s comes more than once; this one is %s", was, tag)
	}
	m.item.Fields["tag"] = tag
}
