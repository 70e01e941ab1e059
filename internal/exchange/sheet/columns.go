package sheet

import (
	"encoding/csv"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
)

// Nothing is what a column holds of which a person says that nothing is to be made.
const Nothing = "-"

// Column is a column of a list, and what it holds.
type Column struct {
	Heading string
	Field   string // what it holds; "" where that is not known
	Exact   bool   // its cells are as in a site file
	Likely  bool   // one word of its heading alone speaks of what it holds
	At      int    // from 0
}

// Is reports whether a person means this column: by its heading, its letter, or its number.
func (c Column) Is(where string) bool {
	return c.headed(where) || Letter(c.At) == strings.ToUpper(where) || strconv.Itoa(c.At+1) == where
}

// headed reports whether a person means this column by its heading.
func (c Column) headed(where string) bool {
	return c.Heading != "" && (strings.EqualFold(c.Heading, where) || Bare(c.Heading) == Bare(where) && Bare(where) != "")
}

// Columns are those of one sheet.
type Columns struct {
	Sheet   string
	Columns []Column
}

// About is a note of the sheet, with its name where there are several.
func (c Columns) About(note string, sheets int) string {
	if sheets == 1 {
		return note
	}
	return fmt.Sprintf("sheet %s: %s", c.Sheet, note)
}

// Unknown lists the headings of columns of which it is not known what they hold.
func (c Columns) Unknown() (list []string) {
	for _, column := range c.Columns {
		if column.Field == "" && column.Heading != "" {
			list = append(list, column.Heading)
		}
	}
	return list
}

// Headings lists what the columns are called that are called anything, each once.
func (c Columns) Headings() (list []string) {
	for _, column := range c.Columns {
		if column.Heading != "" && !slices.Contains(list, column.Heading) {
			list = append(list, column.Heading)
		}
	}
	return list
}

// Fault is a cell that is not understood, or not allowed.
type Fault struct {
	Sheet   string
	Row     int    // 0 where no row is meant
	Column  string // heading; "" where the row as a whole is meant
	Value   string
	Message string
}

// Named is what a person says that columns hold: by what it is, the heading, letter or number of the column; "" by the heading of a column of
// which nothing is to be made. What is said of one sheet alone begins with its name: Pumps!tag.
type Named map[string]string

// ReadNamed reads what columns hold, as it is typed: tag=Signal,address=C, Pumps!tag=B for one sheet, Remarks= for a column of which nothing is to
// be made. A part with a comma in it stands in quotes. What columns can hold are meanings.
func ReadNamed(text string, meanings []string) (Named, error) {
	named := Named{}
	if strings.TrimSpace(text) == "" {
		return named, nil
	}
	r := csv.NewReader(strings.NewReader(text))
	r.TrimLeadingSpace = true
	parts, err := r.Read()
	if err != nil {
		return nil, fmt.Errorf("%q: quotes are not closed, or begin within a part; one with a comma is written \"address=Register, hex\"", text)
	}
	for _, part := range parts {
		if part = strings.TrimSpace(part); part == "" {
			continue
		}
		of, where, ok := strings.Cut(part, "=")
		if heading, nothing := strings.CutSuffix(part, "="); nothing {
			of, where = heading, ""
		}
		of, where = strings.TrimSpace(of), strings.TrimSpace(where)
		if !ok || of == "" {
			return nil, fmt.Errorf("%q is not FIELD=COLUMN, such as tag=Signal or address=C", part)
		}
		named[of] = where
	}
	return named, named.Check(meanings)
}

// Any ends a meaning whose last part is a name of one's own: values.NAME.
const Any = "NAME"

// Check reports what no column can hold.
func (n Named) Check(meanings []string) error {
	for key, where := range n {
		_, of := split(key)
		can := func(meaning string) bool {
			named, any := strings.CutSuffix(meaning, Any)
			return of == meaning || any && strings.HasPrefix(of, named) && len(of) > len(named)
		}
		if where != "" && !slices.ContainsFunc(meanings, can) {
			return fmt.Errorf("%q is nothing that a column holds; there are %s", of, strings.Join(meanings, ", "))
		}
	}
	return nil
}

// NamedOf is what the columns of a list hold, for the next list of its kind. Where sheets differ, it is said of each.
func NamedOf(list []Columns) Named {
	named := Named{}
	headings := map[string]map[string]bool{} // by field
	each := func(do func(sheet, field, heading string)) {
		for _, s := range list {
			for _, c := range s.Columns {
				heading := c.Heading
				if heading == "" {
					heading = Letter(c.At)
				}
				if c.Field != "" {
					do(s.Sheet, c.Field, heading)
				}
			}
		}
	}
	each(func(_, field, heading string) {
		if headings[field] == nil {
			headings[field] = map[string]bool{}
		}
		headings[field][heading] = true
	})
	each(func(sheet, field, heading string) {
		switch {
		case field == Nothing:
			named[heading] = ""
		case len(headings[field]) > 1 && sheet == "": // tables below each other
			if named[field] == "" {
				named[field] = heading
			}
		case len(headings[field]) > 1:
			named[sheet+"!"+field] = heading
		default:
			named[field] = heading
		}
	})
	return named
}

// split parts the sheet, "" for all, from what is said of a column of it.
func split(key string) (sheet, of string) {
	if i := strings.LastIndexByte(key, '!'); i > 0 {
		return key[:i], key[i+1:]
	}
	return "", key
}

// Of is what is said of a sheet: what goes for it alone, and for what it says nothing of, what goes for all.
func (n Named) Of(sheet string) Named {
	own, all := Named{}, Named{}
	for key, where := range n {
		if of, what := split(key); of == "" {
			all[what] = where
		} else if strings.EqualFold(of, sheet) {
			own[what] = where
		}
	}
	maps.Copy(all, own)
	return all
}

// Recognise gives columns with these headings what was said of them; the fields of the others are empty. byHeading is how many are meant by their
// heading.
func (n Named) Recognise(texts []string) (columns []Column, byHeading int) {
	columns = make([]Column, len(texts))
	for i, text := range texts {
		columns[i] = Column{Heading: text, At: i}
	}
	for _, what := range slices.Sorted(maps.Keys(n)) {
		heading, field := n[what], what
		if heading == "" {
			heading, field = what, Nothing
		}
		i := slices.IndexFunc(columns, func(c Column) bool { return c.headed(heading) })
		if i >= 0 {
			byHeading++
		} else if i = slices.IndexFunc(columns, func(c Column) bool { return c.Is(heading) }); i < 0 {
			continue
		}
		columns[i].Field = field
	}
	return columns, byHeading
}

// Alone reports whether a person named all that is known of columns, and none of it by a heading: a row of such columns may be one of the list.
func (n Named) Alone(columns []Column, byHeading int) bool {
	return len(n) > 0 && byHeading == 0 && !slices.ContainsFunc(columns, func(c Column) bool {
		_, said := n[c.Field]
		return c.Field != "" && c.Field != Nothing && !said
	})
}

// Missing tells of a column that was named, and that no sheet has of which it was said.
func (n Named) Missing(found []Columns, all []Grid) error {
	for _, key := range slices.Sorted(maps.Keys(n)) {
		where := n[key]
		of, what := split(key)
		var headings []string
		there, known := false, of == ""
		for _, g := range all {
			known = known || strings.EqualFold(g.Name, of)
		}
		if !known && len(all) == 1 && all[0].Name == "" {
			return fmt.Errorf("this list has no sheets; write %s=%s instead of %s=%s", what, where, key, where)
		}
		if !known {
			return fmt.Errorf("there is no sheet %q; there are %s", of, strings.Join(names(all), ", "))
		}
		for _, c := range found {
			if of != "" && !strings.EqualFold(of, c.Sheet) {
				continue
			}
			headings = append(headings, c.Headings()...)
			for _, column := range c.Columns {
				there = there || where != "" && column.Field == what && column.Is(where) || where == "" && column.Is(what)
			}
		}
		if !there && where == "" {
			return fmt.Errorf("column %q, of which nothing is to be made, is not there; there are %s", what, strings.Join(headings, ", "))
		}
		if !there {
			return fmt.Errorf("column %q for %s is not there; there are %s", where, what, strings.Join(headings, ", "))
		}
	}
	return nil
}

func names(grids []Grid) (list []string) {
	for _, g := range grids {
		list = append(list, g.Name)
	}
	return list
}

// Numbers reports whether most cells of a row are numbers, as those of headings are not. is tells what one is.
func Numbers(cells []string, is func(string) bool) bool {
	n, filled := 0, 0
	for _, c := range cells {
		if c == "" {
			continue
		}
		filled++
		if is(c) {
			n++
		}
	}
	return filled > 0 && 3*n >= filled
}
