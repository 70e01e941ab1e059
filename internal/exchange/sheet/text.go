package sheet

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding/charmap"
	encoding "golang.org/x/text/encoding/unicode"
)

// decode makes text of the octets of a file: UTF-8, UTF-16 with a mark or of Latin letters, and else Windows-1252.
func decode(data []byte) (text string, notes []string, err error) {
	utf16 := func(order encoding.Endianness, name string) (string, []string, error) {
		b, err := encoding.UTF16(order, encoding.UseBOM).NewDecoder().Bytes(data)
		if err != nil {
			return "", nil, fmt.Errorf("the file begins as %s and does not go on so: %w", name, err)
		}
		return string(b), []string{"read as " + name}, nil
	}
	switch {
	case bytes.HasPrefix(data, []byte("\xEF\xBB\xBF")):
		data = data[3:]
	case bytes.HasPrefix(data, []byte("\xFF\xFE")):
		return utf16(encoding.LittleEndian, "UTF-16")
	case bytes.HasPrefix(data, []byte("\xFE\xFF")):
		return utf16(encoding.BigEndian, "UTF-16")
	case len(data) > 3 && data[1] == 0 && data[3] == 0 && data[0] != 0:
		return utf16(encoding.LittleEndian, "UTF-16 without a mark")
	}
	if utf8.Valid(data) {
		if bytes.IndexByte(data, 0) >= 0 {
			return "", nil, errors.New("the file holds octets of zero, so that it is no text; give a .csv, a .xlsx or copied text")
		}
		return string(data), nil, nil
	}
	if strange := bytes.Count(data, []byte{0}); strange > 0 {
		return "", nil, errors.New("the file is no text and no spreadsheet that is known here; save it as .csv or .xlsx")
	}
	b, err := charmap.Windows1252.NewDecoder().Bytes(data)
	if err != nil {
		return "", nil, fmt.Errorf("the file is neither UTF-8 nor Windows-1252: %w", err)
	}
	return string(b), []string{"read as Windows-1252"}, nil
}

// separators are those that files have; the earlier one is taken where two fit alike.
var separators = []struct {
	r    rune
	name string
}{{'\t', "tabs"}, {';', "semicolons"}, {',', "commas"}, {'|', "bars"}}

// sampled is how many records are looked at to find out what parts cells.
const sampled = 60

// readText reads separated values or, where nothing parts cells but spaces, a page.
func readText(text string, notes []string) (Book, error) {
	best, bestScore := -1, 0.0
	for i, s := range separators {
		if score := fits(text, s.r); score > bestScore+1e-9 {
			best, bestScore = i, score
		}
	}
	if best < 0 || separators[best].r == ',' && fitsPage(text) > bestScore+1e-9 { // a comma may stand within cells
		rows, err := readPage(text)
		if err != nil {
			return Book{}, err
		}
		return Book{Form: Page, Grids: []Grid{{Rows: rows}}, Notes: append(notes, "columns parted by spaces, as on a page")}, nil
	}
	b := Book{Form: Separated, Notes: append(notes, "columns parted by "+separators[best].name)}
	g := Grid{}
	r := reader(text, separators[best].r)
	for {
		cells, err := r.Read()
		if err == io.EOF {
			break
		}
		if err != nil {
			return Book{}, fmt.Errorf("separated by %s: %w; a quotation mark may be open", separators[best].name, err)
		}
		line, _ := r.FieldPos(0)
		if row, any := row(line, cells); any {
			if len(g.Rows) == MostRows {
				return Book{}, tooMany()
			}
			g.Rows = append(g.Rows, row)
		}
	}
	b.Grids = []Grid{g}
	return b, nil
}

func tooMany() error {
	return fmt.Errorf("there are more than %d rows; part the file", MostRows)
}

func reader(text string, separator rune) *csv.Reader {
	r := csv.NewReader(strings.NewReader(text))
	r.Comma, r.FieldsPerRecord, r.LazyQuotes, r.ReuseRecord = separator, -1, true, true
	return r
}

// fits tells how well a separator parts the first records: how many cells the usual record has, and how many are usual.
func fits(text string, separator rune) float64 {
	r := reader(text, separator)
	counts, n := map[int]int{}, 0
	for n < sampled {
		cells, err := r.Read()
		if err != nil {
			break
		}
		filled := 0
		for _, c := range cells {
			if strings.TrimSpace(c) != "" {
				filled++
			}
		}
		if filled > 0 {
			counts[len(cells)]++
			n++
		}
	}
	usual, most := 1, 0
	for cells, times := range counts {
		if times > most || times == most && cells > usual {
			usual, most = cells, times
		}
	}
	parted := n - counts[1] // beside titles
	if usual < 2 || 2*most < parted || 2*parted < n {
		return 0
	}
	return float64(most) / float64(n) * min(float64(usual), 12)
}

// chunk is a run of a line without two spaces in a row.
type chunk struct {
	from int // in characters
	text string
}

// chunks parts a line where two spaces or more are, or a tab.
func chunks(line string) (list []chunk) {
	from, spaces, start := -1, 0, 0
	runes := []rune(line)
	for i, r := range append(runes, ' ', ' ') {
		if r == ' ' || r == '\t' || r == '\u00a0' {
			if spaces++; r == '\t' {
				spaces++
			}
			if spaces >= 2 && from >= 0 {
				list = append(list, chunk{from, strings.TrimSpace(string(runes[from:min(start, len(runes))]))})
				from = -1
			}
			continue
		}
		if from < 0 {
			from = i
		}
		spaces, start = 0, i+1
	}
	return list
}

// leastColumns is how many columns a page has at least.
const leastColumns = 2

// fitsPage tells how well spaces part the first lines, as fits does of a separator.
func fitsPage(text string) float64 {
	counts, n := map[int]int{}, 0
	for line := range strings.Lines(text) {
		if parts := chunks(strings.TrimRight(line, "\r\n")); len(parts) > 0 {
			counts[min(len(parts), 12)]++
			if n++; n == sampled {
				break
			}
		}
	}
	several, sum := 0, 0
	for parts, times := range counts {
		if parts >= leastColumns {
			several, sum = several+times, sum+parts*times
		}
	}
	if 2*several < n || several == 0 {
		return 0
	}
	return float64(several) / float64(n) * float64(sum) / float64(several)
}

// readPage reads text whose columns are parted by spaces. They begin where the headings do that stand above; of a table without any, where the cells
// of its fullest line do.
func readPage(text string) (rows []Row, err error) {
	lines := strings.Split(strings.ReplaceAll(text, "\r\n", "\n"), "\n")
	parts := make([][]chunk, len(lines))
	most := 0
	for i, line := range lines {
		parts[i] = chunks(line)
		most = max(most, len(parts[i]))
	}
	if most < leastColumns {
		return readLines(lines)
	}
	var heading []chunk
	for i := range lines {
		if len(parts[i]) == 0 {
			continue
		}
		if heading == nil || heads(parts, i) {
			heading = fullest(parts, i)
		}
		if len(rows) == MostRows {
			return nil, tooMany()
		}
		if row, any := row(i+1, align(parts[i], heading)); any {
			rows = append(rows, row)
		}
	}
	return rows, nil
}

// numbered is a cell that begins with a number, or is one behind the short name of a table: 40001, hr:9, AI 3.
var numbered = regexp.MustCompile(`(?i)^(?:\d|[a-z]{1,4}[:\s._-]?\d+(?:[.-]\d+)?$)`)

// heads reports whether a line is one of headings: three words and more, none of them a number, behind a line that is no part of a table, and above one
// with a number.
func heads(parts [][]chunk, i int) bool {
	wordy := func(of []chunk) bool {
		return !slices.ContainsFunc(of, func(c chunk) bool { return numbered.MatchString(c.text) })
	}
	if len(parts[i]) < 3 || !wordy(parts[i]) || i > 0 && len(parts[i-1]) >= 3 {
		return false
	}
	for _, below := range parts[i+1 : min(i+6, len(parts))] {
		if len(below) >= leastColumns && !wordy(below) {
			return true
		}
	}
	return false
}

// fullest is the line with the most cells from one on, among those that belong to the same table.
func fullest(parts [][]chunk, from int) (best []chunk) {
	for i, line := range parts[from:min(from+sampled, len(parts))] {
		if i > 0 && heads(parts, from+i) && len(best) > leastColumns {
			break
		}
		if len(line) > len(best) {
			best = line
		}
	}
	return best
}

// readLines makes a row of one cell of each line, where no spaces part columns: whoever knows what the words mean may part them.
func readLines(lines []string) (rows []Row, err error) {
	for i, line := range lines {
		if row, any := row(i+1, []string{line}); any {
			if len(rows) == MostRows {
				return nil, tooMany()
			}
			rows = append(rows, row)
		}
	}
	if len(rows) == 0 {
		return nil, errors.New("the file holds nothing")
	}
	return rows, nil
}

// align puts the parts of a line into the columns that they stand under.
func align(parts, heading []chunk) []string {
	cells := make([]string, len(heading))
	if len(parts) == len(heading) {
		for i, p := range parts {
			cells[i] = p.text
		}
		return cells
	}
	next := 0
	for k, p := range parts {
		best := next
		left := len(parts) - k - 1 // that need columns, too
		for i := next; i < len(heading)-min(left, len(heading)-next-1); i++ {
			if abs(heading[i].from-p.from) < abs(heading[best].from-p.from) {
				best = i
			}
		}
		best = min(best, len(heading)-1)
		cells[best] = strings.TrimSpace(cells[best] + " " + p.text)
		next = min(best+1, len(heading)-1)
	}
	return slices.Clip(cells)
}

func abs(n int) int { return max(n, -n) }
