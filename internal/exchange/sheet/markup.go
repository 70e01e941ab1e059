package sheet

import (
	"archive/zip"
	"bufio"
	"bytes"
	"encoding/xml"
	"errors"
	"io"
	"path"
	"strconv"
	"strings"

	"github.com/xuri/excelize/v2"
)

// What the text of a sheet says beside the values of its cells: which ones were merged, which rows are hidden, which cells have a format that tells
// of what they hold, and which formulas have no result. It is looked for in the text, since the library builds a tree of a whole sheet for it.

// area is what cells that were merged cover, from 1.
type area struct{ left, top, right, bottom int }

// place is a cell, from 1.
type place struct{ column, row int }

// markup is what a sheet says beside its values.
type markup struct {
	merged   []area
	hidden   []int         // rows
	styled   map[place]int // the styles of cells whose style tells something
	formulas []place       // without a result
}

// What of a sheet counts at most.
const (
	mostMerges   = 20_000
	mostFormulas = 20_000
)

// markups are what the sheets of a workbook say beside their values, by the sheet's name. tells reports of which styles the cells are wanted.
func markups(data []byte, tells func(style int) bool) (map[string]markup, error) {
	out := map[string]markup{}
	archive, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		return out, err
	}
	parts := map[string]*zip.File{}
	for _, f := range archive.File {
		parts[strings.TrimPrefix(strings.ReplaceAll(f.Name, `\`, "/"), "/")] = f
	}
	var book struct {
		Sheets []struct {
			Name string     `xml:"name,attr"`
			All  []xml.Attr `xml:",any,attr"`
		} `xml:"sheets>sheet"`
	}
	var relations struct {
		List []struct {
			ID     string `xml:"Id,attr"`
			Target string `xml:"Target,attr"`
		} `xml:"Relationship"`
	}
	if err := readPart(parts["xl/workbook.xml"], &book); err != nil {
		return out, err
	}
	if err := readPart(parts["xl/_rels/workbook.xml.rels"], &relations); err != nil {
		return out, err
	}
	for _, s := range book.Sheets {
		for _, a := range s.All {
			if a.Name.Local != "id" || a.Name.Space == "" {
				continue
			}
			for _, r := range relations.List {
				if r.ID != a.Value {
					continue
				}
				name := strings.TrimPrefix(r.Target, "/")
				if name == r.Target {
					name = path.Join("xl", r.Target)
				}
				if out[s.Name], err = markupOfPart(parts[name], tells); err != nil {
					return out, err
				}
			}
		}
	}
	return out, nil
}

var errNoPart = errors.New("a part of the workbook is not where it should be")

// mostIndex is how long the list of a workbook's sheets may be.
const mostIndex = 8 << 20

func readPart(f *zip.File, into any) error {
	if f == nil {
		return errNoPart
	}
	r, err := f.Open()
	if err != nil {
		return err
	}
	defer r.Close()
	return xml.NewDecoder(io.LimitReader(r, mostIndex)).Decode(into)
}

func markupOfPart(f *zip.File, tells func(style int) bool) (markup, error) {
	if f == nil {
		return markup{}, errNoPart
	}
	r, err := f.Open()
	if err != nil {
		return markup{}, err
	}
	defer r.Close()
	return readMarkup(io.LimitReader(r, mostUnpacked), tells)
}

// readMarkup goes through the elements of a sheet.
func readMarkup(r io.Reader, tells func(style int) bool) (m markup, err error) {
	in := bufio.NewReaderSize(r, 64<<10)
	if head, _ := in.Peek(4); !bytes.HasPrefix(bytes.TrimPrefix(head, []byte("\ufeff")), []byte("<")) && len(head) > 3 {
		return m, errors.New("a sheet of the workbook is not UTF-8")
	}
	m.styled = map[place]int{}
	var at place
	formula, textual, result := false, false, false
	for {
		piece, err := in.ReadSlice('>')
		begin := bytes.LastIndexByte(piece, '<')
		if err == nil && begin >= 0 {
			element := piece[begin+1 : len(piece)-1]
			switch name := nameOf(element); name {
			case "row":
				at = place{0, numberOr(attribute(element, "r"), at.row+1)}
				if is := string(attribute(element, "hidden")); is == "1" || is == "true" {
					m.hidden = append(m.hidden, at.row)
				}
			case "c":
				at.column++
				if column, row, err := excelize.CellNameToCoordinates(string(attribute(element, "r"))); err == nil {
					at = place{column, row}
				}
				if style := numberOr(attribute(element, "s"), 0); tells(style) {
					m.styled[at] = style
				}
				formula, textual, result = false, string(attribute(element, "t")) == "str", false
			case "f":
				formula = true
			case "/v":
				result = result || begin > 0 || textual // an empty text is a result, too
			case "/c":
				if formula && !result && len(m.formulas) < mostFormulas {
					m.formulas = append(m.formulas, at)
				}
			case "mergeCell":
				if a, ok := areaOf(string(attribute(element, "ref"))); ok && len(m.merged) < mostMerges {
					m.merged = append(m.merged, a)
				}
			}
		}
		if errors.Is(err, io.EOF) {
			return m, nil
		}
		if err != nil && !errors.Is(err, bufio.ErrBufferFull) { // what is longer is the text of a cell
			return m, err
		}
	}
}

// nameOf is the name of an element without its prefix, with the stroke of one that ends.
func nameOf(element []byte) string {
	end := bytes.IndexAny(element, " \t\r\n/")
	if end == 0 { // one that ends
		if _, name, has := bytes.Cut(element, []byte(":")); has {
			return "/" + string(name)
		}
		return string(element)
	}
	if end > 0 {
		element = element[:end]
	}
	if _, name, has := bytes.Cut(element, []byte(":")); has {
		return string(name)
	}
	return string(element)
}

// attribute is the value of an attribute of an element, nil where it has none.
func attribute(element []byte, name string) []byte {
	for rest := element; ; {
		at := bytes.Index(rest, []byte(name+"="))
		if at < 0 || at+len(name)+2 > len(rest) {
			return nil
		}
		before, quote := at > 0 && (rest[at-1] == ' ' || rest[at-1] == '\n' || rest[at-1] == '\t' || rest[at-1] == '\r'), rest[at+len(name)+1]
		rest = rest[at+len(name)+2:]
		if end := bytes.IndexByte(rest, quote); before && (quote == '"' || quote == '\'') && end >= 0 {
			return rest[:end]
		}
	}
}

func numberOr(text []byte, otherwise int) int {
	if n, err := strconv.Atoi(string(text)); err == nil && n >= 0 {
		return n
	}
	return otherwise
}

// areaOf reads an area: $A$1:B7.
func areaOf(ref string) (area, bool) {
	from, to, _ := strings.Cut(strings.ReplaceAll(ref, "$", ""), ":")
	left, top, err1 := excelize.CellNameToCoordinates(from)
	right, bottom, err2 := excelize.CellNameToCoordinates(to)
	return area{min(left, right), min(top, bottom), max(left, right), max(top, bottom)}, err1 == nil && err2 == nil
}

// markupByLibrary is what the library tells of a sheet in a workbook of an unusual build: its merged cells.
func markupByLibrary(f *excelize.File, name string) (m markup, err error) {
	list, err := f.GetMergeCells(name, true)
	for _, cells := range list {
		if a, ok := areaOf(cells.GetStartAxis() + ":" + cells.GetEndAxis()); ok && len(m.merged) < mostMerges {
			m.merged = append(m.merged, a)
		}
	}
	return m, err
}
