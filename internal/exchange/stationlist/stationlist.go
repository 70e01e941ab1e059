// Package stationlist reads lists of stations: twenty devices of one make, a row each. A column that is named like a parameter of a row's template
// holds its value.
package stationlist

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync"

	"go.yaml.in/yaml/v3"

	"arithmon/internal/core/document"
	"arithmon/internal/core/form"
	"arithmon/internal/core/site"
	"arithmon/internal/exchange/sheet"
)

// What a column may hold beside the fields of a station as a site file names them.
const (
	host     = "host" // of a link of its own, where the row names none
	port     = "port"
	framing  = "framing"
	device   = "device" // of a serial line
	baud     = "baud"
	parity   = "parity"
	stopBits = "stop_bits"
	dataBits = "data_bits"
	settings = "line_settings" // in one cell: 9600 8N1

	parameter = "values." // followed by the name of a parameter of the template
)

// meanings are the headings of columns, in small letters and without marks, by what the column holds.
var meanings = []sheet.Meaning{
	{"name", "name|station|station name|device|device name|drive|controller|plc|rtu|meter|asset|equipment|gerät|gerätename|stationsname|anlage|steuerung|zähler|nom|appareil|équipement|nom de l appareil|nombre|equipo|dispositivo|nome|apparecchio|nazwa|urządzenie|naam|apparaat|nome do dispositivo"},
	{"link", "link|bus|line|channel|connection|network|segment|loop|trunk|leitung|strang|kanal|verbindung|netzwerk|ligne|réseau|línea|red|linea|rete|linia|magistrala|lijn"},
	{"unit", "unit|unit id|unit no|unit number|unit identifier|unit address|address|addr|station address|station id|slave|slave id|slave address|slave no|slave number|server address|server id|rtu address|device id|device address|node|node address|node id|id|modbus address|modbus id|modbus unit|modbus slave|modbus slave id|modbus unit id|" +
		"adresse|adr|geräteadresse|gerätenummer|busadresse|slaveadresse|modbusadresse|teilnehmer|teilnehmeradresse|knoten|esclave|adresse esclave|adresse modbus|n esclave|dirección|dirección modbus|esclavo|id esclavo|indirizzo|indirizzo modbus|indirizzo slave|adres|adres modbus|endereço"},
	{"outstation", "outstation|outstation address|dnp3 address|dnp address|link address|dnp3 outstation|dnp3 station|destination|destination address"},
	{"template", "template|type|device type|kind|model|make|product|typ|gerätetyp|modell|vorlage|bauart|modèle|modelo|modello|tipo|typ urządzenia"},
	{"description", "description|desc|comment|comments|remark|remarks|note|notes|text|location|area|room|site|beschreibung|bezeichnung|kommentar|bemerkung|ort|standort|raum|emplacement|commentaire|lieu|ubicación|descripción|comentario|posizione|descrizione|opis|lokalizacja|omschrijving|locatie"},
	{host, "host|hostname|host name|ip|ip address|ip addr|ip adresse|gateway|gateway ip|device ip|plc ip|adresse ip|dirección ip|indirizzo ip|adres ip|tcp address|endpoint|url|uri|ip port|ip address port"},
	{port, "port|tcp port|port no|port number|ip port|modbus port|puerto|porta"},
	{framing, "framing|framing mode|modbus type|modbus mode|modbus variant|protocol|protokoll|protocole|protocolo|protocollo|transport|transmission mode|connection type"},
	{device, "serial port|com port|com|interface|schnittstelle|port name|serial device|tty|serielle schnittstelle|port série|puerto serie|porta seriale"},
	{baud, "baud|baudrate|baud rate|bps|bit rate|bitrate|vitesse|velocidad"},
	{parity, "parity|parität|parité|paridad|parità"},
	{stopBits, "stop bits|stopbits|stop bit|stoppbits|stop|bits de stop|bits d arrêt"},
	{dataBits, "data bits|databits|datenbits|bits de données|bits de datos"},
	{settings, "serial settings|line settings|serial parameters|com settings|settings|schnittstellenparameter|line parameters|port settings"},
	{"master", "master|master address|dnp3 master|dnp master|master link address|source address|masteradresse"},
	{"unsolicited", "unsolicited|unsol|unsolicited responses|unsolicited reporting|spontaneous|spontan"},
	{"number", "number|telephone|phone|phone number|telephone number|telefonnummer|rufnummer|numéro de téléphone|teléfono|telefono"},
	{"poll", "poll|poll rate|polling|poll interval|scan|scan rate|interval|abfrage|zyklus|période|periodo"},
	{"notation", "notation|numbering|addressing"},
	{"order", "order|byte order|word order|byteorder|wordorder|reihenfolge"},
	{"enabled", "enabled|active|in service|aktiv|in betrieb|actif|activo|attivo"},
}

// byHeading are the fields by the headings that name them.
var byHeading = sync.OnceValue(func() map[string]string { return sheet.ByHeading(meanings) })

// fields are those of a station as a site file names them.
var fields = document.FieldNames(site.Station{})

// Meanings lists what a column may hold.
func Meanings() (list []string) {
	for _, m := range meanings {
		list = append(list, m.Field())
	}
	for _, f := range fields {
		if !slices.Contains(list, f) {
			list = append(list, f)
		}
	}
	return append(list, parameter+sheet.Any)
}

// Options say how a list is read.
type Options struct {
	Columns  sheet.Named       // others are recognised
	Link     string            // of rows that name none
	Template string            // likewise
	Defaults map[string]any    // fields of rows that say nothing of them
	Values   map[string]string // values of parameters of rows that say nothing of them
}

// Item is a row that is a station.
type Item struct {
	Sheet  string
	Row    int
	Fields map[string]any    // of the station, as a site file has them
	Cells  map[string]string // as written, by the heading of their column
	others map[string]other  // what may be values of parameters, by what they are called
	from   map[string]string // the headings that fields came from
	wrong  []string          // fields whose cells are not understood
	link   map[string]string // what it says of a link of its own, by field
	host   string
	port   string
}

// other is a cell of a column that is no field's.
type other struct {
	text, heading string
	named         bool // a person said of which parameter it is
}

// of is the cell that holds the value of a parameter: of the column that a person named, or else of the first that is called so.
func (i Item) of(parameter string) (cell other, found bool) {
	for _, name := range slices.Sorted(maps.Keys(i.others)) {
		c := i.others[name]
		if (strings.EqualFold(strings.Trim(name, "{} "), parameter) || sheet.Bare(name) == sheet.Bare(parameter)) && (!found || c.named && !cell.named) {
			cell, found = c, true
		}
	}
	return cell, found
}

// Name is that of the station.
func (i Item) Name() string { name, _ := i.Fields["name"].(string); return name }

// List is what was read.
type List struct {
	Items   []Item
	Columns []sheet.Columns // of each sheet that has any
	Faults  []sheet.Fault
	Notes   []string
	options Options
	rows    map[string]int  // by the names of their stations
	used    map[string]bool // headings that hold values of parameters

	parameters []string // of the templates of its stations
}

// Read reads all sheets of a book that have headings.
func Read(b sheet.Book, o Options) (List, error) {
	list := List{Notes: slices.Clone(b.Notes), options: o, rows: map[string]int{}, used: map[string]bool{}}
	var first error
	for _, g := range b.Grids {
		columns, from, err := headings(g, o.Columns.Of(g.Name))
		if err != nil {
			if first == nil {
				first = err
			}
			if len(b.Grids) > 1 {
				list.Notes = append(list.Notes, fmt.Sprintf("sheet %s has no headings, and is left out", g.Name))
			}
			continue
		}
		list.Columns = append(list.Columns, sheet.Columns{Sheet: g.Name, Columns: columns})
		for _, row := range g.Rows[from:] {
			list.row(g.Name, row, columns)
		}
	}
	if list.Columns == nil {
		return list, cmp.Or(first, fmt.Errorf("the file holds nothing"))
	}
	return list, o.Columns.Missing(list.Columns, b.Grids)
}

const searched = 40 // rows that are looked at for headings

// headings finds the row that names the columns, and the index of the first one behind it. named are columns that a person named.
func headings(g sheet.Grid, named sheet.Named) (best []sheet.Column, from int, err error) {
	score, byHeading := 0, 0
	for i, row := range g.Rows[:min(len(g.Rows), searched)] {
		columns, byHand := recognise(row.Cells, named)
		n := 0
		for _, c := range columns {
			if c.Field != "" {
				n++
			}
		}
		if n > score {
			best, from, score, byHeading = columns, i+1, n, byHand
		}
	}
	if score < 2 || !slices.ContainsFunc(best, func(c sheet.Column) bool { return c.Field == "name" }) {
		return nil, 0, fmt.Errorf("no headings are recognised: one row must name the columns, such as name, link, unit, template; or say which they are: --columns 'name=A,unit=C'")
	}
	if named.Alone(best, byHeading) && sheet.Numbers(g.Rows[from-1].Cells, number) { // the columns were named by their letters, and the row is one of a station
		for i := range best {
			best[i].Heading = "column " + sheet.Letter(i)
		}
		from--
	}
	return best, from, nil
}

func number(text string) bool { _, err := strconv.ParseFloat(text, 64); return err == nil }

// recognise says what the columns of some headings hold, and how many a person named by their heading.
func recognise(texts []string, named sheet.Named) ([]sheet.Column, int) {
	columns, byHeading := named.Recognise(texts)
	taken := map[string]bool{}
	for _, c := range columns {
		taken[c.Field] = c.Field != ""
	}
	for i := range columns {
		if field := known(texts[i]); columns[i].Field == "" && field != "" && !taken[field] {
			columns[i].Field, taken[field] = field, true
		}
	}
	for i := range columns { // Meter name
		if !taken["name"] && columns[i].Field == "" && strings.HasSuffix(sheet.Bare(texts[i]), " name") {
			columns[i].Field, taken["name"] = "name", true
		}
	}
	return columns, byHeading
}

// known is what a column of a heading holds.
func known(heading string) string {
	if field := byHeading()[sheet.Fold(sheet.Bare(heading))]; field != "" {
		return field
	}
	if slices.Contains(fields, heading) {
		return heading
	}
	return ""
}

// row reads a row; one without a name is none of a station.
func (l *List) row(name string, row sheet.Row, columns []sheet.Column) {
	item := Item{Sheet: name, Row: row.Number, Fields: maps.Clone(l.options.Defaults), Cells: map[string]string{}, others: map[string]other{}, from: map[string]string{}, link: map[string]string{}}
	if item.Fields == nil {
		item.Fields = map[string]any{}
	}
	filled, repeated := 0, true
	for _, c := range columns {
		if c.At < len(row.Cells) && row.Cells[c.At] != "" {
			filled++
			repeated = repeated && row.Cells[c.At] == c.Heading
		}
	}
	if filled < 2 || repeated { // nothing, a title, or headings again
		return
	}
	for _, c := range columns {
		text := ""
		if c.At < len(row.Cells) {
			text = row.Cells[c.At]
		}
		name, named := strings.CutPrefix(c.Field, parameter)
		if text != "" {
			item.Cells[c.Heading] = text
		} else if !named && c.Field != "" {
			continue
		}
		if !named && c.Field != "" && c.Field != sheet.Nothing && item.others[c.Heading].heading == "" {
			item.others[c.Heading] = other{text, c.Heading, false} // a parameter may be called so, too
		}
		switch {
		case named || c.Field == "":
			if key := cmp.Or(name, c.Heading); named || !item.others[key].named {
				item.others[key] = other{text, c.Heading, named}
			}
			continue
		case c.Field == sheet.Nothing:
			continue
		case c.Field == host:
			item.host = text
		case c.Field == port && serialPort.MatchString(text):
			item.link[device] = text
		case c.Field == port:
			item.port = text
		case ofLinks[c.Field]:
			item.link[c.Field] = text
		default:
			v, err := value(c.Field, text)
			if err != nil {
				l.Faults = append(l.Faults, sheet.Fault{Sheet: item.Sheet, Row: row.Number, Column: c.Heading, Value: text, Message: err.Error()})
				item.wrong = append(item.wrong, c.Field)
				break
			}
			item.Fields[c.Field] = v
		}
		item.from[c.Field] = c.Heading
	}
	if item.Name() == "" {
		l.Faults = append(l.Faults, sheet.Fault{Sheet: name, Row: row.Number, Message: "the row names no station"})
		return
	}
	if written := item.Name(); written != "" {
		if name := sheet.Identifier(strings.ReplaceAll(written, "/", "-"), site.MaxName); name != written && name != "" {
			item.Fields["name"] = name
			if len(l.Notes) < mostNotes {
				l.Notes = append(l.Notes, fmt.Sprintf("row %d: %q is no name of a station; %s is", row.Number, written, name))
			}
		}
	}
	if first, twice := l.rows[item.Name()]; twice {
		l.Faults = append(l.Faults, sheet.Fault{Sheet: name, Row: row.Number, Column: item.from["name"], Value: item.Name(), Message: fmt.Sprintf("%q is in row %d, too", item.Name(), first)})
		return
	}
	l.rows[item.Name()] = row.Number
	l.Items = append(l.Items, item)
}

// mostNotes is how much is said of what was made of names; the list shows them all.
const mostNotes = 50

// value is a cell as a site file has it.
func value(field, text string) (any, error) {
	switch field {
	case "name", "link", "template", "description", "number", "notation", "bits", "order", "charset", "liveness_ask":
		return text, nil
	case "unit", "outstation", "master":
		n, err := strconv.ParseInt(strings.TrimSuffix(text, ".0"), 0, 32)
		if err != nil {
			return nil, fmt.Errorf("%q is no address; write a whole number, such as 4", text)
		}
		return n, nil
	case "enabled", "unsolicited":
		switch strings.ToLower(text) {
		case "1", "x", "yes", "y", "true", "on", "ja":
			return true, nil
		case "0", "no", "n", "false", "off", "nein", "-":
			return false, nil
		}
		return nil, fmt.Errorf("%q is neither yes nor no", text)
	}
	var v any
	if err := yaml.Unmarshal([]byte(text), &v); err != nil {
		return nil, fmt.Errorf("%q is not written as in a site file", text)
	}
	return v, nil
}

// Into puts the stations of a list into a draft: those that are there already are changed in what the list has. The faults of the draft wait in
// it; Place finds their rows.
func (l *List) Into(d *site.Draft, now *site.Site) error {
	for n := range l.Items {
		item := &l.Items[n]
		fail := func(field, value, message string) {
			d.Fail(&site.FieldError{Kind: site.KindStation, Name: item.Name(), Field: field, Value: value, Message: message})
		}
		from, exists := now.Get(site.KindStation, item.Name())
		if !exists {
			from = site.Named(site.KindStation, item.Name())
		}
		for _, field := range item.wrong {
			d.Judged(site.KindStation, item.Name(), field)
		}
		l.complete(d, item, from.(site.Station), fail)
		node, err := form.Node(item.Fields)
		if err != nil {
			return fmt.Errorf("row %d: %w", item.Row, err)
		}
		d.Put(form.Decode(site.KindStation, node, d, from))
	}
	return nil
}

// complete gives a row what it does not say itself: link, template, the values of its parameters.
func (l *List) complete(d *site.Draft, item *Item, was site.Station, fail func(field, value, message string)) {
	give := func(field, value string) {
		if _, said := item.Fields[field]; !said && value != "" {
			item.Fields[field] = value
		}
	}
	l.models(d, item)
	give("template", l.options.Template)
	name := cmp.Or(textOf(item.Fields["template"]), was.Template)
	t := site.NewTemplate()
	if e, known := d.Get(site.KindTemplate, name); known {
		t = e.(site.Template)
	}
	speaks := t.Speaks()
	if l, known := d.Get(site.KindLink, cmp.Or(textOf(item.Fields["link"]), l.options.Link)); known && name == "" && (item.host == "" || item.Fields["link"] != nil) {
		speaks = l.(site.Link).Protocol
	} else if _, said := item.Fields["outstation"]; name == "" && (said || dnp3.MatchString(item.link[framing])) {
		speaks = site.DNP3
	}
	if unit, said := item.Fields["unit"]; said && speaks == site.DNP3 && item.Fields["outstation"] == nil {
		delete(item.Fields, "unit")
		item.Fields["outstation"] = unit
		item.from["outstation"] = item.from["unit"]
	}
	values := map[string]string{}
	maps.Copy(values, was.Values)
	given := false
	for _, p := range t.Parameters {
		if !slices.Contains(l.parameters, p.Name) {
			l.parameters = append(l.parameters, p.Name)
		}
		if cell, found := item.of(p.Name); found {
			if l.used[cell.heading] = true; cell.text != "" {
				values[p.Name], given = cell.text, true
				item.from[parameter+p.Name] = cell.heading
			}
		}
		if _, said := values[p.Name]; !said && l.options.Values[p.Name] != "" {
			values[p.Name], given = l.options.Values[p.Name], true
		}
	}
	if _, said := item.Fields["values"]; !said && given {
		item.Fields["values"] = values
	}
	if (item.host != "" || item.link[device] != "") && item.Fields["link"] == nil {
		item.Fields["link"] = l.linkTo(d, *item, speaks, fail)
		return
	}
	give("link", l.options.Link)
}

func textOf(v any) string { text, _ := v.(string); return text }

// Taken are the columns of the list, with those that hold values of parameters, once Into was called.
func (l *List) Taken() []sheet.Columns {
	taken := slices.Clone(l.Columns)
	for i := range taken {
		taken[i].Columns = slices.Clone(taken[i].Columns)
		for k, c := range taken[i].Columns {
			if c.Field == "" && l.used[c.Heading] {
				taken[i].Columns[k].Field = parameter + strings.Trim(c.Heading, "{} ")
			}
		}
	}
	return taken
}

// Unused tells of the columns that nothing is made of, once Into was called.
func (l *List) Unused() (notes []string) {
	for _, c := range l.Taken() {
		if unused := c.Unknown(); len(unused) > 0 {
			notes = append(notes, c.About("columns that nothing is made of: "+strings.Join(unused, ", "), len(l.Columns)))
		}
	}
	return notes
}

// Meanings lists what its columns may hold, once Into was called.
func (l *List) Meanings() (list []string) {
	for _, m := range Meanings() {
		if m != parameter+sheet.Any {
			list = append(list, m)
		}
	}
	for _, name := range l.parameters {
		list = append(list, parameter+name)
	}
	return list
}

// Place gives the faults of a draft with their rows and columns.
func (l *List) Place(found site.Errors) (faults []sheet.Fault) {
	for _, e := range found {
		fault := sheet.Fault{Value: e.Value, Message: e.Error()}
		if item := l.of(e); item != nil {
			field, _, _ := strings.Cut(e.Field, ".")
			fault = sheet.Fault{Sheet: item.Sheet, Row: item.Row, Column: cmp.Or(item.from[e.Field], item.from[field]), Value: e.Value, Message: e.Message}
			switch {
			case e.Kind == site.KindPoint:
				fault.Message = e.Error()
			case fault.Column != "":
				fault.Value = cmp.Or(item.Cells[fault.Column], e.Value)
			case e.Field != "":
				fault.Message = e.Field + ": " + e.Message
			}
		}
		faults = append(faults, fault)
	}
	slices.SortStableFunc(faults, func(a, b sheet.Fault) int { return cmp.Or(cmp.Compare(a.Sheet, b.Sheet), cmp.Compare(a.Row, b.Row)) })
	return faults
}

// of is the row that a fault comes from: that of its station or link, or the one whose values the tag of a point begins with.
func (l *List) of(e *site.FieldError) (best *Item) {
	longest := 0
	for n := range l.Items {
		item := &l.Items[n]
		switch e.Kind {
		case site.KindStation:
			if item.Name() == e.Name {
				return item
			}
		case site.KindLink:
			if item.Name()+"-link" == e.Name && (item.host != "" || item.link[device] != "") {
				return item
			}
		case site.KindPoint:
			values, _ := item.Fields["values"].(map[string]string)
			for _, value := range values {
				if strings.HasPrefix(e.Name, value) && len(value) > longest {
					best, longest = item, len(value)
				}
			}
		}
	}
	return best
}
