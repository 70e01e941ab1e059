package stationlist

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"arithmon/internal/core/nearest"
	"arithmon/internal/core/site"
	"arithmon/internal/exchange/sheet"
)

// The links of stations that name none, but a far end or a serial port.

// ofLinks are the columns of what a link is set to.
var ofLinks = map[string]bool{framing: true, device: true, baud: true, parity: true, stopBits: true, dataBits: true, settings: true}

var (
	serialPort = regexp.MustCompile(`(?i)^(?:COM\d+|/dev/\S+|tty\S+)$`)
	scheme     = regexp.MustCompile(`(?i)^(?:[a-z][a-z+]*)://`)
	dnp3       = regexp.MustCompile(`(?i)dnp`)
	lineIn     = regexp.MustCompile(`(?i)^\s*(\d{3,7})\s*(?:bps|baud)?[\s,;/-]*(?:([78])[\s,;/-]*([neo])\w*[\s,;/-]*([12])|([neo])\w*[\s,;/-]*([78])[\s,;/-]*([12]))?\s*$`)
)

// passedThrough says that frames are passed on as they are.
var passedThrough = regexp.MustCompile(`over|via|encapsul|tunnel|raw|transparent|/\s*(?:tcp|ip)`)

// parities are parities by their first letter: none, even, odd, gerade, ungerade, paire, impaire, keine.
var parities = map[string]string{"n": "none", "k": "none", "a": "none", "-": "none", "e": "even", "g": "even", "p": "even", "o": "odd", "u": "odd", "i": "odd"}

// linkTo is the link to a far end, or a serial line: one that is there, or a new one that is named like the station.
func (l *List) linkTo(d *site.Draft, item Item, speaks site.Protocol, fail func(field, value, message string)) string {
	to := site.NewLink()
	to.Name, to.Protocol = item.Name()+"-link", speaks
	wrong := func(field, value, message string) {
		fail(field, value, message)
		d.Judged(site.KindStation, item.Name(), "link")
	}
	if said := strings.ToLower(item.link[framing]); said != "" && speaks == site.Modbus {
		if to.Framing = framingOf(said); to.Framing == "" {
			wrong(framing, item.link[framing], fmt.Sprintf("%q is no framing; write mbap (Modbus TCP), rtu, ascii, or RTU over TCP", item.link[framing]))
			return to.Name
		}
		if to.Framing == site.RTU && item.host != "" && !passedThrough.MatchString(said) && !strings.Contains(sheet.Bare(item.from[framing]), "framing") {
			to.Framing = "" // behind a gateway that translates, as most do
			l.note("%q behind %s is taken for a gateway that translates; of one that passes frames through, set framing: rtu", item.link[framing], item.host)
		}
		if strings.Contains(said, "udp") {
			to.Transport = site.UDP
		}
	}
	if item.host == "" {
		to.Transport = site.Serial
		if to.Framing == site.MBAP {
			to.Framing = ""
		}
		var err error
		if to.Serial, err = item.line(); err != nil {
			wrong(settings, item.link[settings], err.Error())
			return to.Name
		}
		if to.Framing == "" && to.Serial.DataBits == 7 && speaks == site.Modbus { // which no other has (MODBUS over Serial Line V1.02, 2.5.2)
			to.Framing = site.ASCII
		}
	} else if err := item.farEnd(&to); err != nil {
		wrong(port, item.port, err.Error())
		return to.Name
	}
	to = to.WithDefaults()
	same := func(e site.Entity) bool {
		other := e.(site.Link)
		if to.Serial != nil || other.Serial != nil {
			return to.Serial != nil && other.Serial != nil && to.Serial.Device == other.Serial.Device && other.Protocol == to.Protocol
		}
		return other.Host == to.Host && other.Port == to.Port && other.Protocol == to.Protocol && other.Transport == to.Transport
	}
	for _, name := range d.Touched(site.KindLink) {
		if e, ok := d.Get(site.KindLink, name); ok && same(e) {
			return name
		}
	}
	for _, other := range d.Base().Links() {
		if same(other) {
			return other.Name
		}
	}
	d.Add(to)
	return to.Name
}

// framingOf reads a framing, or what a link is called by it; "" for none.
func framingOf(said string) site.Framing {
	switch {
	case strings.Contains(said, "ascii"):
		return site.ASCII
	case strings.Contains(said, "rtu"), strings.Contains(said, "serial"), strings.Contains(said, "rs485"), strings.Contains(said, "rs-485"), strings.Contains(said, "rs232"):
		return site.RTU
	case strings.Contains(said, "tcp"), strings.Contains(said, "mbap"), strings.Contains(said, "ethernet"), strings.Contains(said, "udp"), strings.TrimSpace(said) == "modbus":
		return site.MBAP
	}
	return ""
}

// farEnd sets the host and the port of a link: 192.0.2.1, tcp://192.0.2.1:502, [2001:db8::1]:502.
func (i Item) farEnd(to *site.Link) error {
	at := scheme.ReplaceAllString(strings.TrimSpace(i.host), "")
	number := i.port
	if host, behind, ok := strings.Cut(at, "]:"); ok {
		at, number = strings.TrimPrefix(host, "["), cmp.Or(number, behind)
	} else if host, behind, ok := strings.Cut(at, ":"); ok && strings.Count(at, ":") == 1 {
		at, number = host, cmp.Or(number, behind)
	}
	to.Host = strings.Trim(at, "[]/")
	if number == "" {
		return nil
	}
	n, err := strconv.Atoi(strings.TrimRight(number, "/"))
	if err != nil {
		return fmt.Errorf("%q is no port; write a number, such as 502", number)
	}
	to.Port = n
	return nil
}

// line are the settings of a serial line, of columns of their own or of one cell: 9600 8N1; 9600,N,8,1.
func (i Item) line() (*site.LineSettings, error) {
	s := &site.LineSettings{Device: i.link[device]}
	rate, parityOf, data, stop := i.link[baud], i.link[parity], i.link[dataBits], i.link[stopBits]
	if said := i.link[settings]; said != "" {
		m := lineIn.FindStringSubmatch(said)
		if m == nil {
			return nil, fmt.Errorf("%q does not say how the line is set; write 9600 8N1", said)
		}
		rate, data, parityOf, stop = cmp.Or(rate, m[1]), cmp.Or(data, m[2], m[6]), cmp.Or(parityOf, m[3], m[5]), cmp.Or(stop, m[4], m[7])
	}
	for _, n := range []struct {
		said, what string
		into       *int
	}{{rate, "baud rate", &s.Baud}, {data, "number of data bits", &s.DataBits}, {stop, "number of stop bits", &s.StopBits}} {
		if n.said == "" {
			continue
		}
		v, err := strconv.Atoi(strings.TrimSuffix(strings.ReplaceAll(n.said, " ", ""), ".0"))
		if err != nil {
			return nil, fmt.Errorf("%q is no %s; write a whole number", n.said, n.what)
		}
		*n.into = v
	}
	if said := strings.ToLower(strings.TrimSpace(parityOf)); said != "" {
		if s.Parity = parities[said[:1]]; s.Parity == "" {
			return nil, fmt.Errorf("%q is no parity; write none, even or odd", parityOf)
		}
	}
	return s, nil
}

// templated are headings of columns that hold templates and nothing else; a model, or a type, may be one of which there is no template.
var templated = map[string]bool{"template": true, "vorlage": true}

// models leaves out what a row calls the model or the type of its device, where the site has no template of that name.
func (l *List) models(d *site.Draft, item *Item) {
	name, heading := textOf(item.Fields["template"]), item.from["template"]
	if name == "" || heading == "" || templated[sheet.Bare(heading)] || l.options.Columns["template"] != "" {
		return
	}
	if _, known := d.Get(site.KindTemplate, name); known || len(nearest.Names(name, d.Base().Names(site.KindTemplate), 1)) > 0 { // which may be meant, and is told
		return
	}
	delete(item.Fields, "template")
	l.note("column %s: there is no template %q, so that such stations get none", heading, name)
}

// note adds a note that stands in the list only once.
func (l *List) note(format string, args ...any) {
	if text := fmt.Sprintf(format, args...); len(l.Notes) < mostNotes && !slices.Contains(l.Notes, text) {
		l.Notes = append(l.Notes, text)
	}
}
