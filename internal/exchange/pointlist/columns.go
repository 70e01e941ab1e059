package pointlist

import (
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"arithmon/internal/core/document"
	"arithmon/internal/core/form"
	"arithmon/internal/core/site"
	"arithmon/internal/exchange/sheet"
)

// What a column may hold beside the fields of a point as a site file names them.
const (
	colTable  = "table"
	colBit    = "bit"
	colFactor = "factor"
	colDivide = "divisor"
	colOffset = "offset"
	colRawMin = "raw_min"
	colRawMax = "raw_max"
	colEngMin = "eng_min"
	colEngMax = "eng_max"
	colAccess = "access"
	colWords  = "words"

	colLowLow   = "limit_low_low"
	colLow      = "limit_low"
	colHigh     = "limit_high"
	colHighHigh = "limit_high_high"
	colState    = "limit_state"
	colDeadband = "limit_deadband"
	colDelay    = "limit_delay"
	colSeverity = "severity"
)

// columns are what a column may hold, and the headings by which it is known, in small letters and without marks.
var meanings = []struct {
	field    string
	headings string // parted by bars
}{
	{"tag", "tag|tag name|tagname|name|signal|signal name|point|point name|variable|variable name|symbol|channel|kennzeichen|kks|messstelle|signalname|kanal|variablenname|parameter name|nom|nombre|nome|repère|señal|segnale"},
	{"station", "station|device|device name|plc|slave|controller|gerät|anlage|steuerung|appareil|équipement|dispositivo|equipo|esclave|esclavo"},
	{"description", "description|desc|comment|comments|remark|remarks|note|notes|text|meaning|parameter|function description|beschreibung|bezeichnung|kommentar|bemerkung|bedeutung|benennung|content|contents|designation|long name|désignation|libellé|commentaire|descripción|descrizione|descriptif|comentario|commento|signification"},
	{"address", "address|addr|adr|register|reg|reg no|register no|register number|reg number|register address|reg address|modbus address|modbus register|modbus reg|start|start address|start register|reference|modbus reference|adresse|registeradresse|registernummer|modbusadresse|index|point index|no|nr|dec address|address dec|hex address|address hex|offset address|register offset|dnp3 index|dnp index|dnp3 point|dnp point|dnp3 address|plc address|plc adr|plc addr|sps adresse|protocol address|modbus|modbus adr|modbus addr|adresse modbus|registre|adresse registre|dirección|dirección modbus|registro|indirizzo|indirizzo modbus|n registre"},
	{colTable, "table|register type|reg type|function|function code|func|fc|fct|area|object type|point type|memory area|registertyp|object group|dnp3 object|io type|signal type|funktion|funktionscode|bereich|fonction|función|funzione"},
	{colBit, "bit|bit no|bit number|bit position|bitnummer|bit nr"},
	{"type", "type|data type|datatype|format|data format|typ|datentyp|representation|encoding|var type|variable type|format type|fmt|type de données|tipo|tipo de dato|tipo dato|formato"},
	{colWords, "words|length|size|registers|no of registers|number of registers|register count|reg count|count|quantity|qty|len|länge|anzahl|anzahl register|registeranzahl|num regs|longueur|nb de registres|longitud|lunghezza|nombre de registres|mots"},
	{"order", "order|byte order|word order|endian|endianness|byteorder|wordorder|swap|reihenfolge|bytereihenfolge"},
	{"unit", "unit|units|eu|eng unit|eng units|engineering unit|engineering units|uom|dimension|einheit|physical unit|unit of measure|unité|unidad|unità"},
	{colFactor, "factor|multiplier|gain|scale|scale factor|scaling factor|scaling|resolution|mult|multiply|multiply by|faktor|skalierung|auflösung|scalar|coefficient|accuracy factor|divisor factor|facteur|coef|coeff|coefficient multiplicateur|échelle|escala|fattore|fattore di scala|factor de escala|risoluzione|résolution"},
	{colDivide, "divisor|divide by|div|divider|teiler|division"},
	{colOffset, "offset|scaling offset|eng offset|bias|zero offset|nullpunkt"},
	{colRawMin, "raw min|min raw|raw low|raw lo|raw minimum|rohwert min|adc min|raw from|raw 0"},
	{colRawMax, "raw max|max raw|raw high|raw hi|raw maximum|rohwert max|adc max|raw to|raw 100"},
	{colEngMin, "eng min|min eng|eng low|min|minimum|low|lo|lower|from|range min|min value|lower limit|lower range|min wert|messbereich min|engineering min|eng from|scale min|low range"},
	{colEngMax, "eng max|max eng|eng high|max|maximum|high|hi|upper|to|range max|max value|upper limit|upper range|max wert|messbereich max|engineering max|eng to|scale max|high range"},
	{"range", "range|measuring range|messbereich|bereich messung|plage|rango|campo di misura|étendue de mesure"},
	{colAccess, "access|r w|rw|r/w|read write|mode|permission|direction|zugriff|access mode|access type|access right|schreibbar|writeable|accès|acceso|accesso|l/e|lecture/écriture|lectura/escritura|lettura/scrittura"},
	{colLowLow, "ll|lolo|lo lo|low low|lowlow|alarm ll|ll alarm|alarm lolo|lolo alarm|alarm low low|low low alarm|low low limit|limit ll|ll limit|trip low|grenzwert ll"},
	{colLow, "alarm l|l alarm|alarm lo|lo alarm|alarm low|low alarm|low alarm limit|limit l|l limit|warning low|low warning|alarm min|min alarm|grenzwert l|grenzwert min|alarm unten"},
	{colHigh, "alarm h|h alarm|alarm hi|hi alarm|alarm high|high alarm|high alarm limit|limit h|h limit|warning high|high warning|alarm max|max alarm|grenzwert h|grenzwert max|alarm oben"},
	{colHighHigh, "hh|hihi|hi hi|high high|highhigh|alarm hh|hh alarm|alarm hihi|hihi alarm|alarm high high|high high alarm|high high limit|limit hh|hh limit|trip high|grenzwert hh"},
	{colState, "alarm state|alarm when|alarm if|alarm value|alarm on|alarmzustand|alarm bei"},
	{colDeadband, "alarm deadband|alarm hysteresis|hysteresis|deadband|hysterese|totband"},
	{colDelay, "alarm delay|delay|on delay|time delay|alarmverzögerung|verzögerung"},
	{colSeverity, "severity|alarm severity|alarm priority|priority|priorität|alarmpriorität|alarm class"},
	{"poll", "poll|poll rate|polling|poll interval|scan|scan rate|interval|period|update|update rate|abfrage|zyklus|cycle"},
	{"poll_group", "poll group|scan group|scan class|gruppe"},
	{"decimals", "decimals|digits|decimal places|precision|nachkommastellen|dp|decimal point"},
	{"states", "states|values|enumeration|enum|value list|coding|codes|state text|states text|zustände|werte|value description|options|valid values"},
	{"invalid", "invalid|invalid value|error value|not available|na value|ungültig|fehlerwert"},
	{"charset", "charset|character set|zeichensatz"},
}

// Meanings lists what a column may hold.
func Meanings() (list []string) {
	for _, m := range meanings {
		list = append(list, m.field)
	}
	for _, f := range fields {
		if !slices.Contains(list, f) {
			list = append(list, f)
		}
	}
	return list
}

// limitsBeside takes low and high for limits where a column beside them has one of the outer limits, and not for the ends of a range.
func limitsBeside(columns []sheet.Column, taken map[string]bool) {
	if !taken[colLowLow] && !taken[colHighHigh] {
		return
	}
	for i := range columns {
		field := map[string]string{"l": colLow, "lo": colLow, "low": colLow, "h": colHigh, "hi": colHigh, "high": colHigh}[sheet.Bare(columns[i].Heading)]
		if field != "" && !taken[field] && !columns[i].Exact && columns[i].Field != sheet.Nothing {
			columns[i].Field, taken[field] = field, true
		}
	}
}

// fields are those of a point as a site file names them; cells of columns that are headed so hold what a site file would.
var fields = func() (list []string) {
	for _, f := range document.FieldsOf(reflect.TypeOf(form.Shape(site.KindPoint))) {
		list = append(list, f.Name)
	}
	return list
}()

// known gives the field that a heading names; exact says that its cells are as in a site file: of a list that was exported, and of fields that
// have no other name.
func known(heading string, exported bool) (field string, exact bool) {
	if exported && slices.Contains(fields, heading) {
		return heading, true
	}
	plain := sheet.Bare(heading)
	for _, m := range meanings {
		if slices.Contains(strings.Split(m.headings, "|"), plain) {
			return m.field, false
		}
	}
	if slices.Contains(fields, heading) {
		return heading, true
	}
	return "", false
}

// headings are the row or two of a grid that name its columns.
type headings struct {
	columns []sheet.Column
	first   int // index of the first row behind them
	rows    [][]string
	exact   map[string]bool   // fields whose cells are as in a site file
	from    map[string]string // the headings of fields
}

func newHeadings(columns []sheet.Column, first int, rows ...[]string) headings {
	h := headings{columns: columns, first: first, rows: rows, exact: map[string]bool{}, from: map[string]string{}}
	for _, c := range columns {
		if c.Exact {
			h.exact[c.Field] = true
		}
		if c.Field != "" {
			h.from[c.Field] = c.Heading
		}
	}
	return h
}

// searched is how many rows are looked at for headings.
const searched = 40

// findHeadings finds the headings of a grid. named are columns that a person named.
func findHeadings(g sheet.Grid, named sheet.Named) (headings, error) {
	var best headings
	bestScore, byHeading := 0, 0
	try := func(texts []string, first int, rows ...[]string) {
		columns, n := recognise(texts, named)
		score := 0
		for _, c := range columns {
			if c.Field != "" && c.Heading != "" {
				score += 2
			} else if c.Field != "" {
				score++
			}
		}
		if score > bestScore {
			best, bestScore, byHeading = newHeadings(columns, first, rows...), score, n
		}
	}
	for i, row := range g.Rows[:min(len(g.Rows), searched)] {
		try(row.Cells, i+1, row.Cells)
		if i+1 < len(g.Rows) && !numbers(g.Rows[i+1].Cells) { // a second row may go on with them
			below := g.Rows[i+1].Cells
			both := make([]string, max(len(row.Cells), len(below)))
			for k := range both {
				both[k] = strings.TrimSpace(cell(row.Cells, k) + " " + cell(below, k))
			}
			try(both, i+2, row.Cells, below)
		}
	}
	if bestScore < 4 || !best.has("address") && !best.has("tag") || named.Alone(best.columns, byHeading) && numbers(best.rows[0]) {
		if columns := headless(g, named); columns != nil {
			return newHeadings(columns, 0), nil
		}
		return best, fmt.Errorf("no headings are recognised: one row must name the columns, such as tag, address, type, unit; or say which they are: --columns 'tag=A,address=C'")
	}
	return best, nil
}

// numbersRows are headings of columns that number the rows.
var numbersRows = map[string]bool{"no": true, "nr": true, "n": true, "": true, "pos": true, "item": true, "line": true, "row": true, "index": true, "id": true, "lfd nr": true, "ligne": true}

// addressByCells takes a column for the addresses whose cells look like some, where no heading names them, or only one whose cells number the rows. It
// gives its heading.
func (h *headings) addressByCells(rows []sheet.Row) string {
	rows = rows[:min(len(rows), looked)]
	counts := func(c sheet.Column) bool { // the rows
		for k, row := range rows {
			if text := cell(row.Cells, c.At); text != "" && text != strconv.Itoa(k+1) {
				return false
			}
		}
		return true
	}
	was := taken(h.columns, "address")
	if was >= 0 && !(numbersRows[sheet.Bare(h.columns[was].Heading)] && !h.columns[was].Exact && counts(h.columns[was])) || h.has(colOffset) {
		return ""
	}
	for i, c := range h.columns {
		if c.Field != "" || numbersRows[sheet.Bare(c.Heading)] || counts(c) {
			continue
		}
		filled, like := 0, 0
		for _, row := range rows {
			if text := cell(row.Cells, c.At); text != "" {
				filled++
				if addressLike.MatchString(text) {
					like++
				}
			}
		}
		if filled > 0 && float64(like) >= mostly*float64(filled) {
			if was >= 0 {
				h.columns[was].Field = ""
			}
			h.columns[i].Field, h.from["address"] = "address", c.Heading
			return c.Heading
		}
	}
	return ""
}

// has reports whether a column holds a field.
func (h headings) has(field string) bool { return taken(h.columns, field) >= 0 }

// headless says what the columns of a grid hold that has no headings: what was named, and beside that, what their cells show; nil where neither
// gives enough of a point.
func headless(g sheet.Grid, named sheet.Named) []sheet.Column {
	guessed := guess(g)
	if guessed == nil && len(named) == 0 {
		return nil
	}
	texts := make([]string, width(g.Rows))
	for i := range texts {
		texts[i] = "column " + sheet.Letter(i)
	}
	columns, _ := named.Recognise(texts)
	for i, c := range guessed {
		if columns[i].Field == "" && taken(columns, c.Field) < 0 {
			columns[i].Field = c.Field
		}
	}
	if guessed == nil && taken(columns, "address") < 0 && taken(columns, "tag") < 0 {
		return nil
	}
	return columns
}

// offsetsOfAddresses gives up a column of offsets that go on as the addresses beside them do: they are addresses once more, and nothing is added to
// values.
func (h *headings) offsetsOfAddresses(rows []sheet.Row) {
	at := func(field string) int {
		return slices.IndexFunc(h.columns, func(c sheet.Column) bool { return c.Field == field && !c.Exact })
	}
	addresses, offsets := at("address"), at(colOffset)
	if addresses < 0 || offsets < 0 {
		return
	}
	whole := func(row sheet.Row, i int) (int64, bool) {
		text := strings.TrimSuffix(cell(row.Cells, h.columns[i].At), ".0")
		if end := strings.IndexByte(text, '-'); end > 0 { // of a range, the first
			text = text[:end]
		}
		n, err := strconv.ParseInt(strings.TrimSpace(text), 0, 32)
		if err != nil {
			n, err = strconv.ParseInt(strings.TrimSpace(text), 10, 32) // 00001
		}
		return n, err == nil
	}
	between, known, moved := int64(0), 0, false
	for _, row := range rows[:min(len(rows), looked)] {
		address, is1 := whole(row, addresses)
		offset, is2 := whole(row, offsets)
		if !is1 || !is2 {
			continue
		}
		if known > 0 && address-offset != between {
			return
		}
		moved = moved || known > 0
		between, known = address-offset, known+1
	}
	if moved {
		h.columns[offsets].Field = ""
		delete(h.from, colOffset)
	}
}

// indexBeside takes the index of DNP3 points for their address, where other addresses stand beside it.
func (h *headings) indexBeside() {
	at := slices.IndexFunc(h.columns, func(c sheet.Column) bool {
		bare := sheet.Bare(c.Heading)
		return c.Field == "" && faints[bare] && bare != "no" && bare != "nr"
	})
	was := slices.IndexFunc(h.columns, func(c sheet.Column) bool { return c.Field == "address" && !c.Exact && !faints[sheet.Bare(c.Heading)] })
	if at >= 0 && was >= 0 {
		h.columns[was].Field, h.columns[at].Field, h.from["address"] = "", "address", h.columns[at].Heading
	}
}

// kindBeside takes a column for the kinds of DNP3 points whose cells are all short names of them, where no heading says so.
func (h *headings) kindBeside(rows []sheet.Row) {
	if slices.ContainsFunc(h.columns, func(c sheet.Column) bool { return c.Field == colTable }) {
		return
	}
	for i := range h.columns {
		n, are := 0, 0
		for _, row := range rows[:min(len(rows), looked)] {
			if text := cell(row.Cells, h.columns[i].At); text != "" {
				n++
				if kinds[strings.ToLower(text)] != "" {
					are++
				}
			}
		}
		if h.columns[i].Field == "" && n > 0 && are == n {
			h.columns[i].Field, h.from[colTable] = colTable, h.columns[i].Heading
			return
		}
	}
}

// numbers reports whether most cells of a row are numbers, as those of headings are not.
func numbers(cells []string) bool {
	return sheet.Numbers(cells, func(text string) bool { _, ok := number(text); return ok })
}

func cell(cells []string, i int) string {
	if i < len(cells) {
		return cells[i]
	}
	return ""
}

// faints are headings that count where no other column has what they may mean: No. numbers the rows as often as it names registers.
var faints = map[string]bool{"no": true, "nr": true, "index": true, "point index": true, "reference": true, "dnp3 index": true, "dnp index": true, "dnp3 point": true, "dnp point": true, "dnp3 address": true}

// recognise says what the columns of some headings hold, and how many a person named by their heading. Of two columns for one field, the first
// counts; what was named goes before.
func recognise(texts []string, by sheet.Named) ([]sheet.Column, int) {
	columns, byHeading := by.Recognise(texts)
	exported := slices.Contains(texts, Version)
	taken := map[string]bool{}
	for _, c := range columns {
		taken[c.Field] = c.Field != ""
	}
	for _, faint := range []bool{false, true} {
		for i := range columns {
			field, exact := known(columns[i].Heading, exported)
			if columns[i].Field != "" || field == "" || taken[field] || faints[sheet.Bare(columns[i].Heading)] && !exact != faint {
				continue
			}
			columns[i].Field, columns[i].Exact, taken[field] = field, exact, true
		}
	}
	if !taken["tag"] { // IEC name
		for i := range columns {
			if bare := sheet.Bare(columns[i].Heading); columns[i].Field == "" && (strings.HasSuffix(bare, "name") || strings.HasSuffix(bare, " tag")) && columns[i].Heading != Was {
				columns[i].Field, taken["tag"] = "tag", true
				break
			}
		}
	}
	for i := range columns { // of two columns that describe, the first names
		if field, _ := known(columns[i].Heading, exported); field != "description" || columns[i].Field != "" || taken["tag"] || by["description"] != "" {
			continue
		}
		for k := range columns {
			if columns[k].Field == "description" {
				columns[k].Field, taken["tag"] = "tag", true
			}
		}
		columns[i].Field = "description"
	}
	limitsBeside(columns, taken)
	// Of two columns with addresses, the hexadecimal one is as on the wire.
	for i := range columns {
		if field, _ := known(columns[i].Heading, exported); field == "address" && columns[i].Field == "" && strings.Contains(strings.ToLower(columns[i].Heading), "hex") && by["address"] == "" {
			for k := range columns {
				if columns[k].Field == "address" {
					columns[k].Field = ""
				}
			}
			columns[i].Field = "address"
		}
	}
	// An offset is an address where no other column is one.
	if !taken["address"] && taken[colOffset] && by[colOffset] == "" {
		for i := range columns {
			if columns[i].Field == colOffset {
				columns[i].Field = "address"
			}
		}
	}
	return columns, byHeading
}
