// Package profile reads the device profile of a DNP3 outstation (an XML document) into points.
package profile

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"unicode"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/ianaindex"
	utf "golang.org/x/text/encoding/unicode"
	"golang.org/x/text/transform"

	"arithmon/internal/core/scaling"
	"arithmon/internal/core/site"
)

// MaxSize is how large a device profile may be.
const MaxSize = 32 << 20

// profileKinds are the elements of a DNP3 device profile that describe a point, by their local names.
var profileKinds = map[string]site.Space{
	"binaryInput": site.BinaryInputs, "doubleBitInput": site.DoubleBitInputs, "doubleBitBinaryInput": site.DoubleBitInputs, "binaryOutput": site.BinaryOutputs,
	"counter": site.Counters, "frozenCounter": site.FrozenCounters, "counterFrozenCounter": site.Counters,
	"analogInput": site.AnalogInputs, "analogOutput": site.AnalogOutputs, "octetString": site.OctetStrings,
}

// Point is a point that a device profile describes.
type Point struct {
	Point site.Point
	Class int // of its events, 0 for none or where it is not said
	Line  int
}

// Profile is what a DNP3 XML device profile says of a device.
type Profile struct {
	Vendor, Product string
	Points          []Point
	Notes           []string // what was left out, and why
}

// node is an element with what is in it.
type node struct {
	name     string
	text     []byte
	children []*node
	line     int
}

// Read reads the DNP3 XML Device Profile (the open schema of the standard's users' group, any version): its point lists.
// The tags of points are made of prefix and their names, or of their kind and index where they have none.
func Read(name string, data []byte, station, prefix string) (*Profile, error) {
	if len(data) > MaxSize {
		return nil, fmt.Errorf("%s: has %d bytes; at most %d are read", name, len(data), MaxSize)
	}
	root, err := parseXML(data)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	if !strings.Contains(strings.ToLower(root.name), "deviceprofile") {
		return nil, fmt.Errorf("%s:%d: <%s> is no DNP3 device profile; it begins with <DNP3DeviceProfileDocument>", name, root.line, root.name)
	}
	p := &Profile{Vendor: root.find("vendorName"), Product: root.find("deviceName")}
	taken := map[string]bool{}
	root.each(func(n *node) {
		space, known := profileKinds[n.name]
		if !known || n.child("index") == nil {
			return
		}
		point, note := n.point(space, station, prefix, taken)
		if note != "" {
			p.Notes = append(p.Notes, fmt.Sprintf("%s:%d: %s", name, n.line, note))
		}
		if point != nil {
			p.Points = append(p.Points, *point)
		}
	})
	if len(p.Points) == 0 {
		return p, fmt.Errorf("%s: the profile has no point list (dataPointsList); its configuration alone makes no points", name)
	}
	return p, nil
}

// mostDeep is how deep elements may be in each other.
const mostDeep = 64

func parseXML(data []byte) (*node, error) {
	marked := bytes.HasPrefix(data, []byte("\xFF\xFE")) || bytes.HasPrefix(data, []byte("\xFE\xFF"))
	d := xml.NewDecoder(transform.NewReader(bytes.NewReader(data), utf.BOMOverride(encoding.Nop.NewDecoder())))
	d.CharsetReader = func(name string, input io.Reader) (io.Reader, error) {
		if marked { // which is UTF-16, and was read as that
			return input, nil
		}
		of, err := ianaindex.IANA.Encoding(name)
		if err != nil || of == nil {
			return nil, fmt.Errorf("the file says that it is written in %q, which is not read; save it in UTF-8", name)
		}
		return of.NewDecoder().Reader(input), nil
	}
	var root *node
	var open []*node
	for {
		token, err := d.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, err
		}
		switch t := token.(type) {
		case xml.StartElement:
			line, _ := d.InputPos()
			n := &node{name: t.Name.Local, line: line}
			if len(open) == mostDeep {
				return nil, fmt.Errorf("line %d: elements are more than %d deep", line, mostDeep)
			}
			if len(open) > 0 {
				parent := open[len(open)-1]
				parent.children = append(parent.children, n)
			} else {
				root = n
			}
			open = append(open, n)
		case xml.EndElement:
			open = open[:len(open)-1]
		case xml.CharData:
			if len(open) > 0 {
				open[len(open)-1].text = append(open[len(open)-1].text, t...)
			}
		}
	}
	if root == nil {
		return nil, errors.New("the file is empty")
	}
	return root, nil
}

func (n *node) each(f func(*node)) {
	f(n)
	for _, c := range n.children {
		c.each(f)
	}
}

// child is the first child of any of these names, whatever their case; nil when there is none.
func (n *node) child(names ...string) *node {
	for _, name := range names {
		for _, c := range n.children {
			if strings.EqualFold(c.name, name) {
				return c
			}
		}
	}
	return nil
}

// said is the text of a child, or the name of the one element in it, as the schema writes choices: <changeEventClass>one</…> or
// <changeEventClass><one/></…>.
func (n *node) said(names ...string) string {
	c := n.child(names...)
	if c == nil {
		return ""
	}
	if text := c.deep(); text != "" {
		return text
	}
	if len(c.children) == 1 {
		return c.children[0].name
	}
	return ""
}

// deep is the first text in an element or in those within it.
func (n *node) deep() string {
	if text := strings.Join(strings.Fields(string(n.text)), " "); text != "" {
		return text
	}
	for _, c := range n.children {
		if text := c.deep(); text != "" {
			return text
		}
	}
	return ""
}

// find is the text of the first element of a name anywhere below.
func (n *node) find(name string) (text string) {
	n.each(func(c *node) {
		if text == "" && strings.EqualFold(c.name, name) {
			text = (&node{children: []*node{c}}).said(name)
		}
	})
	return text
}

var classes = map[string]int{"one": 1, "two": 2, "three": 3, "1": 1, "2": 2, "3": 3, "class1": 1, "class2": 2, "class3": 3}

// point is what an element says of a point; note says what was left out.
func (n *node) point(space site.Space, station, prefix string, taken map[string]bool) (*Point, string) {
	index, err := strconv.ParseUint(n.said("index"), 10, 16)
	if err != nil {
		return nil, fmt.Sprintf("index %q is no number from 0 to 65535; the point was left out", n.said("index"))
	}
	p := site.Point{Station: station, Address: site.Address{Space: space, Offset: uint16(index)}}
	p.Tag = prefix + tagOf(n.said("name"))
	if p.Tag == prefix || taken[p.Tag] {
		p.Tag = fmt.Sprintf("%s%s%d", prefix, space, index)
	}
	taken[p.Tag] = true
	p.Description = clip(n.said("description"), site.MaxDescription)
	if p.Description == "" && n.said("name") != "" && tagOf(n.said("name")) != n.said("name") {
		p.Description = clip(n.said("name"), site.MaxDescription)
	}
	p.Unit = clip(n.said("units", "unit"), site.MaxUnitText)
	p.Writable = space.Output()
	note := n.details(&p)
	return &Point{p.WithDefaults(), classes[strings.ToLower(n.said("changeEventClass", "eventClass", "defaultEventClass", "counterEventClass", "eventDefaultClass"))], n.line}, note
}

// details reads states and scaling.
func (n *node) details(p *site.Point) (note string) {
	switch p.Address.Space {
	case site.BinaryInputs, site.BinaryOutputs:
		zero, one := n.said("nameState0", "state0Name", "nameForStateWhenValueIs0"), n.said("nameState1", "state1Name", "nameForStateWhenValueIs1")
		if zero != "" && one != "" && !strings.EqualFold(zero, one) {
			p.States = site.States{0: clip(zero, site.MaxName), 1: clip(one, site.MaxName)}
		}
	case site.DoubleBitInputs:
		states := site.States{}
		for value := range int64(4) {
			if text := n.said(fmt.Sprintf("nameState%d", value), fmt.Sprintf("nameState%02b", value)); text != "" {
				states[value] = clip(text, site.MaxName)
			}
		}
		if len(states) == 4 {
			p.States = states
		}
	case site.AnalogInputs, site.AnalogOutputs, site.Counters, site.FrozenCounters:
		factor, err1 := number(n.said("scaleFactor", "multiplier", "scalingMultiplier"), 1)
		offset, err2 := number(n.said("scaleOffset", "offset", "scalingOffset"), 0)
		if err := errors.Join(err1, err2); err != nil || factor == 0 {
			return fmt.Sprintf("%s: its scaling was left out: factor %q, offset %q", p.Address, n.said("scaleFactor", "multiplier", "scalingMultiplier"), n.said("scaleOffset", "offset", "scalingOffset"))
		}
		if factor != 1 || offset != 0 {
			p.Scaling = scaling.Scaling{Factor: &factor, Offset: &offset}
		}
	}
	return ""
}

func number(text string, unsaid float64) (float64, error) {
	if text == "" {
		return unsaid, nil
	}
	return strconv.ParseFloat(text, 64)
}

// tagOf makes a part of a tag of a name: letters, digits and - _ . / stay, the rest becomes -.
func tagOf(name string) string {
	var b strings.Builder
	for _, r := range clip(name, 100) {
		switch {
		case unicode.IsLetter(r), unicode.IsDigit(r), strings.ContainsRune("_./", r):
			b.WriteRune(r)
		default:
			if s := b.String(); s != "" && !strings.HasSuffix(s, "-") {
				b.WriteByte('-')
			}
		}
	}
	tag := strings.Trim(b.String(), "-/.")
	for strings.Contains(tag, "//") {
		tag = strings.ReplaceAll(tag, "//", "/")
	}
	return tag
}

// clip cuts a text to so many characters, and control characters out of it.
func clip(s string, most int) string {
	list := []rune(strings.Map(func(r rune) rune {
		if unicode.IsControl(r) {
			return ' '
		}
		return r
	}, strings.ToValidUTF8(s, "?")))
	return string(list[:min(len(list), most)])
}
