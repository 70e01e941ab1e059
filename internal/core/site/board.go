package site

import (
	"bytes"
	"cmp"
	"encoding/base64"
	"encoding/xml"
	"errors"
	"fmt"
	"image/png"
	"io"
	"slices"
	"strings"
	"time"

	"arithmon/internal/core/codec"
)

// Board is a page of displays that a person composes, on a grid of BoardColumns columns.
type Board struct {
	Name        string    `json:"name" doc:"unique name: letters, digits, - _ ."`
	Description string    `json:"description,omitempty" doc:"what it shows, at most 500 characters"`
	Locked      bool      `json:"locked,omitempty" doc:"true: nothing is written from it, and nothing on it moved"`
	Sketch      *Image    `json:"sketch,omitempty" doc:"a drawing of the plant behind the displays"`
	Displays    []Display `json:"displays,omitempty" doc:"what is on it"`
}

// Display is one thing on a board.
type Display struct {
	Show   Show     `json:"show" doc:"how it looks" enum:"figure,bar,gauge,lamp,trend,table,text,picture,switch,button,push,slider,entry,states"`
	Tag    string   `json:"tag,omitempty" doc:"the point that it shows or writes"`
	Tags   []string `json:"tags,omitempty" doc:"of a trend or a table: the points, in their order"`
	Title  string   `json:"title,omitempty" doc:"instead of the tag"`
	Text   string   `json:"text,omitempty" doc:"of a text"`
	Labels []string `json:"labels,omitempty" doc:"of a button: what it says to switch off and on; of a push: what it says"`
	Last   Duration `json:"last,omitempty" zero:"no" doc:"of a trend: how much of it, 1m to 7d (default 10m)"`
	Image  *Image   `json:"image,omitempty" doc:"of a picture"`
	X      int      `json:"x" doc:"column at the left, from 0"`
	Y      int      `json:"y" doc:"row at the top, from 0"`
	W      int      `json:"w" doc:"columns"`
	H      int      `json:"h" doc:"rows"`
}

// Show is how a display looks.
type Show string

// The displays; those from Switch on write.
const (
	Figure  Show = "figure"
	Bar     Show = "bar"
	Gauge   Show = "gauge"
	Lamp    Show = "lamp"
	Trend   Show = "trend"
	Table   Show = "table"
	Words   Show = "text"
	Picture Show = "picture"
	Switch  Show = "switch"
	Button  Show = "button"
	Push    Show = "push"
	Slider  Show = "slider"
	Entry   Show = "entry"
	Choice  Show = "states"
)

// Shows lists them.
func Shows() []Show {
	return []Show{Figure, Bar, Gauge, Lamp, Trend, Table, Words, Picture, Switch, Button, Push, Slider, Entry, Choice}
}

// Writes reports whether the display writes its point.
func (s Show) Writes() bool { return slices.Index(Shows(), s) >= slices.Index(Shows(), Switch) }

// several reports whether the display shows a list of points.
func (s Show) several() bool { return s == Trend || s == Table }

// The bounds of boards.
const (
	BoardColumns  = 24
	BoardRows     = 400
	MaxDisplays   = 500
	MaxDisplayed  = 50 // points of a trend or a table
	MaxBoardText  = 2000
	MaxImage      = 512 << 10
	maxImageSides = 8000
)

// Image is a picture: PNG, or SVG without script.
type Image struct {
	Media string `json:"media" doc:"image/png or image/svg+xml" enum:"image/png,image/svg+xml"`
	Data  string `json:"data" doc:"the picture, as base64, at most 512 KiB of it"`
}

// NewBoard is a board with the defaults of the site file.
func NewBoard() Board { return Board{} }

// Kind is KindBoard.
func (b Board) Kind() Kind { return KindBoard }

// Key is the name.
func (b Board) Key() string { return b.Name }

func (b Board) owner() string { return "" }
func (b Board) called(name string) Entity {
	b.Name = name
	return b
}

func (b Board) ownedBy(string) Entity { return b }
func (b Board) completed() Entity     { return b }
func (b Board) misfit(*Site) string   { return "" }

// Points lists the tags of the points on the board, each once.
func (b Board) Points() (tags []string) {
	seen := map[string]bool{}
	for _, d := range b.Displays {
		for _, tag := range append([]string{d.Tag}, d.Tags...) {
			if tag != "" && !seen[tag] {
				seen[tag] = true
				tags = append(tags, tag)
			}
		}
	}
	return tags
}

func (b Board) refers() (list []key) {
	for _, tag := range b.Points() {
		list = append(list, key{KindPoint, tag})
	}
	return list
}

// referring is the board with a point under its new tag.
func (b Board) referring(_ Kind, was, is string) Entity {
	return b.renamed(func(tag string) string {
		if tag == was {
			return is
		}
		return tag
	})
}

// renamed is the board with other tags.
func (b Board) renamed(f func(tag string) string) Board {
	b.Displays = slices.Clone(b.Displays)
	for i := range b.Displays {
		d := &b.Displays[i]
		if d.Tag != "" {
			d.Tag = f(d.Tag)
		}
		if d.Tags != nil {
			d.Tags = slices.Clone(d.Tags)
			for j := range d.Tags {
				d.Tags[j] = f(d.Tags[j])
			}
		}
	}
	return b
}

// Copied is the board under another name, with the points of another branch where tags are changed.
func (b Board) Copied(name string, tags *TagChange) Board {
	b.Name = name
	if tags == nil || tags.From == "" {
		return b
	}
	return b.renamed(func(tag string) string { return strings.Replace(tag, tags.From, tags.To, 1) })
}

func (b Board) check(d *Draft, f *faults) {
	f.name("name", b.Name, MaxName, "")
	f.text("description", b.Description, MaxDescription)
	f.count("displays", len(b.Displays), 0, MaxDisplays)
	if b.Sketch != nil {
		if why := b.Sketch.check(); why != "" {
			f.add("sketch", b.Sketch.Media, "%s", why)
		}
	}
	known := map[string]bool{}
	if before, ok := d.Before(KindBoard, b.Name); ok { // what was on it and went is shown as that, and does not keep it from being changed
		for _, tag := range before.(Board).Points() {
			known[tag] = true
		}
	}
	for i, x := range b.Displays {
		x.check(d, f, fmt.Sprintf("displays[%d]", i), known)
	}
}

func (x Display) check(d *Draft, f *faults, at string, known map[string]bool) {
	if !slices.Contains(Shows(), x.Show) {
		choose(f, at+".show", x.Show, Shows()...)
		return
	}
	f.count(at+".w", x.W, 1, BoardColumns)
	f.count(at+".h", x.H, 1, BoardRows)
	f.count(at+".x", x.X, 0, BoardColumns-max(1, min(x.W, BoardColumns)))
	f.count(at+".y", x.Y, 0, BoardRows)
	f.text(at+".title", x.Title, MaxName)
	if len(x.Text) > MaxBoardText {
		f.add(at+".text", x.Text[:20]+"…", "has %d bytes; at most %d are allowed", len(x.Text), MaxBoardText)
	}
	for _, label := range x.Labels {
		f.text(at+".labels", label, MaxName)
	}
	f.count(at+".labels", len(x.Labels), 0, 2)
	f.count(at+".tags", len(x.Tags), 0, MaxDisplayed)
	if x.Last != 0 {
		f.span(at+".last", x.Last, time.Minute, 7*24*time.Hour)
	}
	switch {
	case x.Show == Words:
	case x.Show == Picture:
		if x.Image == nil {
			f.add(at+".image", "", "is missing")
		} else if why := x.Image.check(); why != "" {
			f.add(at+".image", x.Image.Media, "%s", why)
		}
	case x.Show.several() && len(x.Tags) == 0:
		f.add(at+".tags", "", "is missing; a %s needs at least one point", x.Show)
	case !x.Show.several() && x.Tag == "":
		f.add(at+".tag", "", "is missing; a %s needs a point", x.Show)
	}
	for _, tag := range append([]string{x.Tag}, x.Tags...) {
		if tag == "" || strings.HasPrefix(tag, "@") {
			continue
		}
		e, ok := d.Get(KindPoint, tag)
		switch {
		case !ok && !known[tag]:
			f.add(at+".tag", tag, "there is no point %q%s", tag, d.near(KindPoint, tag))
		case ok && x.Show.Writes() && tag == x.Tag && !e.(Point).Writable && !known[tag]:
			f.add(at+".show", x.Show, "a %s writes, and %s may not be written (writable)", x.Show, tag)
		}
	}
}

// check says what is wrong with a picture; "" when nothing is.
func (i *Image) check() string {
	data, err := base64.StdEncoding.DecodeString(i.Data)
	switch {
	case err != nil:
		return "is no base64"
	case len(data) > MaxImage:
		return fmt.Sprintf("has %d KiB; at most %d are kept", len(data)>>10, MaxImage>>10)
	case i.Media == "image/png":
		c, err := png.DecodeConfig(bytes.NewReader(data))
		if err != nil {
			return "is no PNG: " + err.Error()
		}
		if c.Width > maxImageSides || c.Height > maxImageSides {
			return fmt.Sprintf("has %d by %d pixels; at most %d are kept either way", c.Width, c.Height, maxImageSides)
		}
		return ""
	case i.Media == "image/svg+xml":
		if err := CheckSVG(data); err != nil {
			return err.Error()
		}
		return ""
	}
	return fmt.Sprintf("%q is neither image/png nor image/svg+xml", i.Media)
}

// svgElements are those that a drawing may have: shapes, text, and what gives them colour.
var svgElements = strings.Fields(`svg g defs symbol use path rect circle ellipse line polyline polygon text tspan textPath title desc metadata
	linearGradient radialGradient stop pattern clipPath mask marker style image filter feGaussianBlur feOffset feMerge feMergeNode feBlend feColorMatrix feFlood feComposite switch a view namedview`)

// CheckSVG says why a drawing is not taken: it is none, or has something in it that can do more than be looked at.
func CheckSVG(data []byte) error {
	d := xml.NewDecoder(bytes.NewReader(data))
	d.Strict = true
	d.CharsetReader = func(charset string, r io.Reader) (io.Reader, error) {
		return nil, fmt.Errorf("its characters are %s; save it as UTF-8", charset)
	}
	depth, elements, root := 0, 0, false
	for {
		token, err := d.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return fmt.Errorf("is no SVG: %w", err)
		}
		switch t := token.(type) {
		case xml.Directive:
			if bytes.Contains(bytes.ToUpper(t), []byte("ENTITY")) {
				return errors.New("declares entities, which are not taken; save it as plain SVG")
			}
		case xml.ProcInst:
			if t.Target != "xml" {
				return fmt.Errorf("has a processing instruction <?%s, which is not taken; save it as plain SVG", t.Target)
			}
		case xml.StartElement:
			depth++
			if elements++; elements > 20_000 || depth > 200 {
				return errors.New("has too many parts for a board")
			}
			if !root && t.Name.Local != "svg" {
				return fmt.Errorf("is no SVG: it begins with <%s>", t.Name.Local)
			}
			root = true
			foreign := t.Name.Space != "" && t.Name.Space != "http://www.w3.org/2000/svg"
			if strings.Contains(t.Name.Space, "xhtml") || t.Name.Local == "script" {
				return fmt.Errorf("has a <%s> in it, which is not taken", t.Name.Local)
			}
			if !foreign && !slices.Contains(svgElements, t.Name.Local) {
				return fmt.Errorf("has a <%s> in it, which is not taken", t.Name.Local)
			}
			for _, a := range t.Attr {
				name, value := strings.ToLower(a.Name.Local), strings.ToLower(strings.Join(strings.Fields(a.Value), ""))
				switch {
				case strings.HasPrefix(name, "on"):
					return fmt.Errorf("has script in it (%s of <%s>); save it as plain SVG", a.Name.Local, t.Name.Local)
				case (name == "href" || name == "src") && !strings.HasPrefix(value, "#") && !strings.HasPrefix(value, "data:image/png;") && !strings.HasPrefix(value, "data:image/jpeg;") && !foreign:
					return fmt.Errorf("refers to something outside of it (%s of <%s>); put it in, or leave it out", a.Name.Local, t.Name.Local)
				case strings.Contains(value, "javascript:"), strings.Contains(value, "url(") && !strings.Contains(value, "url(#") && !strings.Contains(value, "url('#") && !strings.Contains(value, "url(\"#"):
					return fmt.Errorf("refers to something outside of it (%s of <%s>)", a.Name.Local, t.Name.Local)
				}
			}
		case xml.CharData:
			if text := strings.ToLower(string(t)); strings.Contains(text, "@import") || strings.Contains(text, "javascript:") || strings.Count(text, "url(") != strings.Count(text, "url(#") {
				return errors.New("has a style that refers to something outside of it")
			}
		case xml.EndElement:
			depth--
		}
	}
	if !root {
		return errors.New("is no SVG: there is nothing in it")
	}
	return nil
}

// Suits lists the displays that suit a point, the usual one first.
func (p Point) Suits() []Show {
	scaled := p.Scaling.Eng != nil || p.Range != nil || p.Limits != nil || p.Unit == "%"
	switch {
	case p.Type == codec.TypeString || p.Type == codec.TypeBits:
		if p.Writable && p.Type == codec.TypeString {
			return []Show{Entry, Figure, Table}
		}
		return []Show{Figure, Table}
	case p.Type == codec.TypeBool && p.Writable && p.Pulse != 0:
		return []Show{Push, Switch, Lamp, Trend, Table}
	case p.Type == codec.TypeBool && p.Writable:
		return []Show{Switch, Button, Push, Lamp, Trend, Table}
	case p.Type == codec.TypeBool:
		return []Show{Lamp, Figure, Trend, Table}
	case len(p.Conversion().States()) > 0 && p.Writable:
		return []Show{Choice, Figure, Trend, Table}
	case len(p.Conversion().States()) > 0:
		return []Show{Figure, Lamp, Trend, Table}
	case p.Writable && scaled:
		return []Show{Entry, Slider, Gauge, Bar, Figure, Trend, Table}
	case p.Writable:
		return []Show{Entry, Figure, Trend, Table}
	case scaled:
		return []Show{Gauge, Bar, Figure, Trend, Table}
	}
	return []Show{Figure, Bar, Gauge, Trend, Table}
}

// sizes are how large displays are when they are made, in columns and rows.
var sizes = map[Show][2]int{Figure: {4, 3}, Bar: {6, 3}, Gauge: {5, 5}, Lamp: {4, 2}, Trend: {12, 6}, Table: {8, 8}, Words: {6, 2}, Picture: {8, 8}, Switch: {4, 3}, Button: {4, 3}, Push: {4, 3}, Slider: {6, 3}, Entry: {4, 3}, Choice: {5, 3}}

// Size is how large a display is when it is made, in columns and rows.
func (s Show) Size() (w, h int) { return sizes[s][0], sizes[s][1] }

// BoardOf is a board of a station: a display for each of its points, fitting its type, those of one size beside each other.
func BoardOf(s *Site, station, name string) Board {
	b := Board{Name: name, Description: "Made of station " + station}
	points := s.SharedPointsOf(station)
	slices.SortStableFunc(points, func(a, c *Point) int {
		_, ah := a.Suits()[0].Size()
		_, ch := c.Suits()[0].Size()
		return cmp.Compare(ch, ah)
	})
	x, y, row := 0, 0, 0
	for _, p := range points[:min(len(points), MaxDisplays)] {
		show := p.Suits()[0]
		w, h := show.Size()
		if x+w > BoardColumns || row != h && x > 0 {
			x, y = 0, y+row
		}
		row = h
		b.Displays = append(b.Displays, Display{Show: show, Tag: p.Tag, X: x, Y: y, W: w, H: h})
		x += w
	}
	return b
}
