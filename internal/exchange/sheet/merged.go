package sheet

import (
	"archive/zip"
	"bufio"
	"bytes"
	"encoding/xml"
	"errors"
	"io"
	"path"
	"regexp"
	"strings"

	"github.com/xuri/excelize/v2"
)

// area is what cells that were merged cover, from 1.
type area struct{ left, top, right, bottom int }

// merges are the merged cells of the sheets of a workbook, by the sheet's name. They are looked for in its text, since the library builds a tree of a
// whole sheet for them, and writes it anew before it gives the rows.
func merges(data []byte) (map[string][]area, error) {
	out := map[string][]area{}
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
				if out[s.Name], err = mergesOf(parts[name]); err != nil {
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

// mergedRange is what a sheet says of merged cells.
var mergedRange = regexp.MustCompile(`<(?:\w+:)?mergeCell\s[^>]*?\bref=["']\$?([A-Z]+)\$?([0-9]+):\$?([A-Z]+)\$?([0-9]+)["']`)

// mostMerges is how many merged areas of a sheet count, and longestMerge how long what a sheet says of one may be.
const (
	mostMerges   = 20_000
	longestMerge = 4 << 10
)

func mergesOf(f *zip.File) (list []area, err error) {
	if f == nil {
		return nil, errNoPart
	}
	r, err := f.Open()
	if err != nil {
		return nil, err
	}
	defer r.Close()
	in := bufio.NewReaderSize(io.LimitReader(r, mostUnpacked), 64<<10)
	if head, _ := in.Peek(4); !bytes.HasPrefix(bytes.TrimPrefix(head, []byte("\ufeff")), []byte("<")) && len(head) > 3 {
		return nil, errors.New("a sheet of the workbook is not UTF-8")
	}
	window := make([]byte, 0, 128<<10)
	for {
		n, err := in.Read(window[len(window):cap(window)])
		window = window[:len(window)+n]
		if at := bytes.Index(window, []byte("mergeCell")); at >= 0 {
			end := 0
			for _, m := range mergedRange.FindAllSubmatchIndex(window, -1) {
				left, top, err1 := excelize.CellNameToCoordinates(string(window[m[2]:m[3]]) + string(window[m[4]:m[5]]))
				right, bottom, err2 := excelize.CellNameToCoordinates(string(window[m[6]:m[7]]) + string(window[m[8]:m[9]]))
				if err1 == nil && err2 == nil && len(list) < mostMerges {
					list = append(list, area{min(left, right), min(top, bottom), max(left, right), max(top, bottom)})
				}
				end = m[1]
			}
			window = window[:copy(window, window[end:])]
		}
		if errors.Is(err, io.EOF) {
			return list, nil
		}
		if err != nil {
			return nil, err
		}
		if cap(window)-len(window) < 16<<10 { // what may be the beginning of one stays
			window = window[:copy(window, window[len(window)-longestMerge:])]
		}
	}
}

// mergesByLibrary are those of a sheet as the library finds them.
func mergesByLibrary(f *excelize.File, name string) (out []area, err error) {
	list, err := f.GetMergeCells(name, true)
	for _, m := range list {
		left, top, err1 := excelize.CellNameToCoordinates(m.GetStartAxis())
		right, bottom, err2 := excelize.CellNameToCoordinates(m.GetEndAxis())
		if err1 == nil && err2 == nil && len(out) < mostMerges {
			out = append(out, area{left, top, right, bottom})
		}
	}
	return out, err
}

// covering puts the values of merged cells into all cells that they cover, row after row.
type covering struct {
	at   map[int][]area // by the first row
	open []covered
	left int // cells that may still be written into
}

type covered struct {
	area
	value string
}

// mostMerged is how many cells merged ones are written into.
const mostMerged = 20_000

func cover(list []area) *covering {
	c := &covering{at: map[int][]area{}, left: mostMerged}
	for _, a := range list {
		c.at[a.top] = append(c.at[a.top], a)
	}
	return c
}

// row fills the cells of a row, which is not before those that it was called with.
func (c *covering) row(number int, cells []string) []string {
	still := c.open[:0]
	for _, o := range c.open {
		if o.bottom >= number {
			still = append(still, o)
		}
	}
	c.open = still
	for _, a := range c.at[number] {
		if a.left <= len(cells) && cells[a.left-1] != "" {
			c.open = append(c.open, covered{a, cells[a.left-1]})
		}
	}
	for _, o := range c.open {
		for column := o.left; column <= min(o.right, MostColumns) && c.left > 0; column++ {
			c.left--
			for len(cells) < column {
				cells = append(cells, "")
			}
			if cells[column-1] == "" {
				cells[column-1] = o.value
			}
		}
	}
	return cells
}
