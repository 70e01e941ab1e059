package site

import (
	"encoding/base64"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/codec"
)

// withBoard is small with a board of its points.
func withBoard(t *testing.T, displays ...Display) (*Site, error) {
	t.Helper()
	s := small(t)
	d := s.Edit()
	d.Add(Board{Name: "b", Displays: displays})
	changes, err := d.Changes()
	return s.With(changes), err
}

func board(t *testing.T, s *Site) Board {
	t.Helper()
	e, ok := s.Get(KindBoard, "b")
	require.True(t, ok)
	return e.(Board)
}

func TestABoardFollowsItsPoints(t *testing.T) {
	s, err := withBoard(t, Display{Show: Figure, Tag: "plc/a", W: 4, H: 3}, Display{Show: Trend, Tags: []string{"plc/a", "meter/a"}, W: 4, H: 3, X: 4})
	require.NoError(t, err)
	d := s.Edit()
	p, _ := s.Point("plc/a")
	p.Tag = "plc/new"
	d.Replace("plc/a", p)
	changes, err := d.Changes()
	require.NoError(t, err)
	s = s.With(changes)
	assert.Equal(t, []string{"plc/new", "meter/a"}, board(t, s).Points())

	d = s.Edit()
	d.Remove(KindPoint, "plc/new", false)
	changes, err = d.Changes()
	require.NoError(t, err, "a point goes without its displays")
	s = s.With(changes)
	assert.Equal(t, []string{"plc/new", "meter/a"}, board(t, s).Points(), "which say that it is gone")
	d = s.Edit()
	b := board(t, s)
	b.Description = "changed all the same"
	d.Put(b)
	_, err = d.Changes()
	assert.NoError(t, err)
}

func TestFaultsOfBoards(t *testing.T) {
	for want, display := range map[string]Display{
		`there is no point "plc/zz"`:     {Show: Figure, Tag: "plc/zz", W: 1, H: 1},
		"a figure needs a point":         {Show: Figure, W: 1, H: 1},
		"a trend needs at least one":     {Show: Trend, W: 1, H: 1},
		"may not be written":             {Show: Slider, Tag: "plc/a", W: 1, H: 1},
		`"dial" is not known`:            {Show: "dial", Tag: "plc/a", W: 1, H: 1},
		"0 is out of range: 1 to 24":     {Show: Figure, Tag: "plc/a", H: 1},
		"23 is out of range: 0 to 20":    {Show: Figure, Tag: "plc/a", X: 23, W: 4, H: 1},
		"is missing":                     {Show: Picture, W: 1, H: 1},
		"is no base64":                   {Show: Picture, W: 1, H: 1, Image: &Image{"image/png", "%"}},
		"is no PNG":                      {Show: Picture, W: 1, H: 1, Image: &Image{"image/png", "AAAA"}},
		"neither image/png nor":          {Show: Picture, W: 1, H: 1, Image: &Image{"text/html", "AAAA"}},
		"5s is out of range: 1m to 168h": {Show: Trend, Tags: []string{"plc/a"}, W: 1, H: 1, Last: Duration(5e9)},
	} {
		_, err := withBoard(t, display)
		assert.ErrorContains(t, err, want)
	}
}

func TestDrawings(t *testing.T) {
	for _, text := range []string{
		`<svg xmlns="http://www.w3.org/2000/svg"><g fill="url(#a)"><path d="M0 0"/></g><style>.a{fill:url(#b)}</style></svg>`,
		`<?xml version="1.0" encoding="UTF-8"?><svg xmlns="http://www.w3.org/2000/svg" xmlns:d="http://drawing/"><d:namedview x="1"/><use href="#a"/><image href="data:image/png;base64,AAAA"/></svg>`,
	} {
		assert.NoError(t, CheckSVG([]byte(text)), text)
	}
	for text, want := range map[string]string{
		``:                                     "there is nothing in it",
		`<html></html>`:                        "begins with <html>",
		`<svg><script>alert(1)</script></svg>`: "<script>",
		`<svg xmlns:x="http://www.w3.org/1999/xhtml"><x:body/></svg>`:             "<body>",
		`<svg onload="alert(1)"/>`:                                                "script in it",
		`<svg><a href=" java script:alert(1)"/></svg>`:                            "outside",
		`<svg><image href="http://elsewhere/x.png"/></svg>`:                       "outside",
		`<svg><foreignObject/></svg>`:                                             "foreignObject",
		`<svg><rect fill="url(http://elsewhere/)"/></svg>`:                        "outside",
		`<svg><style>@import 'http://elsewhere'</style></svg>`:                    "style",
		`<svg><style>a{background:url(http://elsewhere)}</style></svg>`:           "style",
		`<!DOCTYPE svg [<!ENTITY a "b">]><svg/>`:                                  "entities",
		`<?xml-stylesheet href="a.css"?><svg/>`:                                   "processing instruction",
		`<svg><animate attributeName="href" values="javascript:alert(1)"/></svg>`: "<animate>",
		`<svg`: "is no SVG",
	} {
		assert.ErrorContains(t, CheckSVG([]byte(text)), want, text)
	}
	_, err := withBoard(t, Display{Show: Picture, W: 1, H: 1, Image: &Image{"image/svg+xml", base64.StdEncoding.EncodeToString([]byte(`<svg/>`))}})
	assert.NoError(t, err)
}

func TestABoardOfAStation(t *testing.T) {
	s := small(t)
	d := s.Edit()
	for i := range 30 {
		p := testPoint("plc/x"+fmt.Sprint(i), "plc", "hr:1", codec.TypeFloat32)
		if p.Unit = "%"; i%3 == 0 {
			p.Writable = true
		}
		d.Add(p)
	}
	changes, err := d.Changes()
	require.NoError(t, err)
	s = s.With(changes)
	b := BoardOf(s, "plc", "b")
	assert.Len(t, b.Displays, 32)
	d = s.Edit()
	d.Add(b)
	_, err = d.Changes()
	require.NoError(t, err)
	for i, x := range b.Displays {
		for _, y := range b.Displays[i+1:] {
			assert.False(t, x.X < y.X+y.W && y.X < x.X+x.W && x.Y < y.Y+y.H && y.Y < x.Y+x.H, "%s and %s overlap", x.Tag, y.Tag)
		}
	}
	copied := Board{Name: "a", Displays: []Display{{Tag: "tern/pump1/speed"}, {Tags: []string{"tern/pump1/current", "x"}}}}.Copied("c", &TagChange{"pump1", "pump2"})
	assert.Equal(t, []string{"tern/pump2/speed", "tern/pump2/current", "x"}, copied.Points())
}

func FuzzSVG(f *testing.F) {
	f.Add([]byte(`<svg><g onload="x"/></svg>`))
	f.Fuzz(func(_ *testing.T, b []byte) { _ = CheckSVG(b) })
}
