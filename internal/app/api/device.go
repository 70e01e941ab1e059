package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
	"arithmon/internal/live/control"
	"arithmon/internal/live/engine"
	"arithmon/internal/live/link"
	"arithmon/internal/live/table"
	"arithmon/internal/protocol/wire"
	"arithmon/internal/record/database"
)

// maxRange is the most addresses read at once without points.
const maxRange = 2000

func (s *Server) testStation(c *gin.Context) error {
	if _, err := s.whole(c, name(c)); err != nil {
		return err
	}
	t, err := s.engine.TestStation(c.Request.Context(), name(c))
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, Test(t))
	return nil
}

// testLink connects to the far end, unless the link is connected already: some devices take one connection only.
func (s *Server) testLink(c *gin.Context) error {
	tested, ok := s.site(c).Link(name(c))
	if !ok {
		return s.missing(c, site.KindLink, name(c))
	}
	links, _ := s.engine.Status()
	for _, l := range links {
		if l.Name == tested.Name && l.State == link.Up {
			c.JSON(http.StatusOK, Test{Answers: true, Message: fmt.Sprintf("%s is open since %s", tested.FarEnd(), l.Since.Local().Format(time.TimeOnly)), RoundTripMS: l.Statistics.RoundTripMS})
			return nil
		}
	}
	began := time.Now()
	message, err := wire.Test(c.Request.Context(), tested)
	t := Test{Answers: err == nil, Message: message, RoundTripMS: float64(time.Since(began)) / float64(time.Millisecond)}
	if err != nil {
		t.Message = err.Error()
	}
	c.JSON(http.StatusOK, t)
	return nil
}

// refresh asks a station everything at once.
func (s *Server) refresh(c *gin.Context) error {
	if _, err := s.whole(c, name(c)); err != nil {
		return err
	}
	if err := s.engine.Refresh(c.Request.Context(), name(c)); err != nil {
		return gateway(err)
	}
	c.Status(http.StatusNoContent)
	return nil
}

// Ports is the serial ports of the machine that the service runs on.
type Ports struct {
	Ports []string `json:"ports"`
}

func (s *Server) ports(c *gin.Context) error {
	list, err := wire.Ports()
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, Ports{append([]string{}, list...)})
	return nil
}

// station returns the station of that name.
func (s *Server) station(c *gin.Context, name string) (site.Station, error) {
	st, ok := s.site(c).Station(name)
	if !ok {
		return st, s.missing(c, site.KindStation, name)
	}
	return st, nil
}

// whole returns the station of that name, of which the one who asks may have everything, and not only some points.
func (s *Server) whole(c *gin.Context, name string) (site.Station, error) {
	st, err := s.station(c, name)
	if err == nil {
		err = principal(c).Reaches(st)
	}
	return st, err
}

func (s *Server) exists(c *gin.Context, kind site.Kind, name string) error {
	if _, ok := s.site(c).Get(kind, name); !ok {
		return s.missing(c, kind, name)
	}
	return nil
}

func (s *Server) readRange(c *gin.Context) error {
	st, err := s.whole(c, name(c))
	if err != nil {
		return err
	}
	what, p, err := wanted(st, c.Query("range"), c.Query("type"), c.Query("order"), c.Query("length"))
	if err != nil {
		return err
	}
	samples, err := readAround(what, func(part site.Range) ([]tableSample, error) {
		return s.engine.ReadAddresses(c.Request.Context(), st.Name, part)
	})
	if err != nil {
		return gateway(err)
	}
	c.JSON(http.StatusOK, rawReadings(samples, p, st, c.Query("type") != ""))
	return nil
}

// wanted reads what is to be read: a range, which is as long as its values are, and how they are laid out.
func wanted(st site.Station, text, typ, order, length string) (site.Range, site.Point, error) {
	wrong := func(format string, args ...any) error {
		return site.Errors{{Kind: site.KindStation, Name: st.Name, Field: "range", Value: text, Message: fmt.Sprintf(format, args...)}}
	}
	what, err := st.Convention().ParseRange(text, "")
	switch {
	case err != nil:
		return what, site.Point{}, wrong("%s", err)
	case what.Count > maxRange:
		return what, site.Point{}, wrong("%s is %d addresses; at most %d are read at once", what, what.Count, maxRange)
	}
	p, err := direct(st, what.Start, typ, order, length)
	if err != nil {
		return what, p, err
	}
	if width := p.Layout(st).Words(); typ != "" && what.Count%width != 0 {
		if what.Count > 1 {
			whole := site.Range{Start: what.Start, Count: what.Count / width * width}
			return what, p, wrong("%s is %d registers, and each %s takes %d: ask for %s", what, what.Count, p.Type, width, either(whole, site.Range{Start: what.Start, Count: whole.Count + width}))
		}
		what.Count = width // the value that begins there
	}
	return what, p, nil
}

// rawReadings makes readings of what was read: values of a type that was asked for, otherwise one of each address.
func rawReadings(samples []tableSample, p site.Point, st site.Station, typed bool) Page[RawReading] {
	convention := st.Convention()
	if typed && p.Address.Space.Registers() {
		return Page[RawReading]{Items: valuesOf(samples, p.Layout(st), convention)}
	}
	list := Page[RawReading]{Items: make([]RawReading, len(samples))}
	for i, sample := range samples {
		r := RawReading{Address: sample.Address.String(), Shown: sample.Address.Format(convention), Value: sample.Value, Raw: sample.Raw(), Problem: explain(sample.Reason)}
		if len(sample.Words) == 1 {
			signed := int16(sample.Words[0])
			r.Signed = &signed
		}
		list.Items[i] = r
	}
	return list
}

// either names two ranges of which the first may be empty.
func either(a, b site.Range) string {
	if a.Count == 0 {
		return b.String()
	}
	return a.String() + " or " + b.String()
}

// valuesOf makes values of registers.
func valuesOf(samples []table.Sample, layout codec.Layout, convention site.Convention) []RawReading {
	list := []RawReading{}
	for n := layout.Words(); len(samples) >= n; samples = samples[n:] {
		r := RawReading{Address: samples[0].Address.String(), Shown: samples[0].Address.Format(convention)}
		for _, sample := range samples[:n] {
			r.Raw.Words = append(r.Raw.Words, sample.Words...)
			if sample.Reason != "" && r.Problem == "" {
				r.Problem = sample.Address.String() + ": " + explain(sample.Reason)
			}
		}
		if r.Problem == "" {
			r.Value, _ = layout.Decode(r.Raw.Words) // nothing where they are no value of this type
		}
		list = append(list, r)
	}
	return list
}

// direct is a point for addresses of a station that have none.
func direct(st site.Station, at site.Address, typ, order, length string) (site.Point, error) {
	p := site.Point{Tag: "direct", Station: st.Name, Address: at, Type: codec.Type(typ), Order: codec.Order(order), Writable: at.Space.Output()}
	if length != "" {
		n, err := strconv.Atoi(length)
		if err != nil {
			return p, fail(http.StatusBadRequest, "length=%s: a number is needed", length)
		}
		p.Length = n
	}
	p = p.WithDefaults()
	if faults := p.Check(); faults != nil {
		for _, f := range faults {
			f.Kind, f.Name = site.KindStation, st.Name
		}
		return p, faults
	}
	return p, nil
}

// gateway marks an error of a device as one that is not the service's.
func gateway(err error) error {
	if errors.Is(err, link.ErrStopped) || errors.Is(err, link.ErrBorrowed) || errors.Is(err, engine.ErrNoStation) || database.OnDisk(err) {
		return err
	}
	return fail(http.StatusBadGateway, "the device gave nothing: %s", err)
}

// lens reads as many words at a point's address as the widest type takes, or as many as the device gives.
func (s *Server) lens(c *gin.Context) error {
	tag := c.Query("tag")
	now := s.site(c)
	p, ok := now.Point(tag)
	st, _ := now.Station(p.Station)
	if !ok {
		return s.missing(c, site.KindPoint, tag)
	}
	if p.Address.Space.Protocol().Traits().Typed {
		return fail(http.StatusUnprocessableEntity, "%s is a %s: its object says what type it is, so there is one interpretation", tag, p.Address.Space.Name())
	}
	if !p.Address.Space.Registers() {
		return fail(http.StatusUnprocessableEntity, "%s is a %s: a bit has one interpretation", tag, p.Address.Space.Name())
	}
	out := Lens{Tag: tag, Address: site.Address{Space: p.Address.Space, Offset: p.Address.Offset}.String()}
	words, err := s.words(c.Request.Context(), p, 4)
	if err != nil {
		return gateway(err)
	}
	for _, w := range words {
		out.Words = append(out.Words, fmt.Sprintf("0x%04X", w))
	}
	current := p.Layout(st)
	for _, in := range codec.Interpretations(words) {
		row := LensRow{Type: in.Layout.Type, Order: in.Layout.Order, Value: in.Value, Plausible: in.Plausible}
		row.Current = in.Layout.Type == current.Type && sameOrder(in.Layout, current)
		if in.Err != nil {
			row.Problem = in.Err.Error()
		} else {
			as := p
			as.Type, as.States = in.Layout.Type, nil
			conversion := as.Conversion()
			v, _ := conversion.Engineering(in.Value)
			row.Text = conversion.Text(v)
		}
		out.Rows = append(out.Rows, row)
	}
	c.JSON(http.StatusOK, out)
	return nil
}

// sameOrder reports whether two layouts of one type read words alike.
func sameOrder(a, b codec.Layout) bool {
	probe := []uint16{0x0102, 0x0304, 0x0506, 0x0708}
	x, _ := codec.Layout{Type: codec.TypeUint64, Order: a.Order}.Decode(probe)
	y, _ := codec.Layout{Type: codec.TypeUint64, Order: b.Order}.Decode(probe)
	if a.Words() == 1 {
		x, _ = codec.Layout{Type: codec.TypeUint16, Order: a.Order}.Decode(probe)
		y, _ = codec.Layout{Type: codec.TypeUint16, Order: b.Order}.Decode(probe)
	}
	return x == y
}

// words reads up to n registers from a point's address on; fewer when the device refuses that many.
func (s *Server) words(ctx context.Context, p site.Point, n int) ([]uint16, error) {
	for {
		n = min(n, 0x10000-int(p.Address.Offset))
		start := site.Address{Space: p.Address.Space, Offset: p.Address.Offset}
		samples, err := s.engine.ReadAddresses(ctx, p.Station, site.Range{Start: start, Count: n})
		if err != nil && n > 1 && strings.Contains(err.Error(), "exception") {
			n /= 2
			continue
		}
		words := make([]uint16, 0, len(samples))
		for _, sample := range samples {
			words = append(words, sample.Words...)
		}
		return words, err
	}
}

func (s *Server) write(c *gin.Context) error {
	request, err := request[WriteRequest](c)
	if err != nil {
		return err
	}
	if err := s.exists(c, site.KindPoint, request.Tag); err != nil {
		return err
	}
	w, err := s.control.Write(c.Request.Context(), principal(c), request.Tag, request.Value)
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, WriteResult{w.Tag, w.Outcome, control.Together(w.Before), control.Together(w.Sent), control.Together(w.After), w.Message, w.NotAllowed})
	return nil
}

// writeRange writes to addresses that no point needs to have.
func (s *Server) writeRange(c *gin.Context) error {
	st, err := s.station(c, name(c))
	if err != nil {
		return err
	}
	request, err := request[RangeWrite](c)
	if err != nil {
		return err
	}
	p, err := writable(st, request)
	if err != nil {
		return err
	}
	w, err := s.control.WriteAddresses(c.Request.Context(), principal(c), st, p, request.Values)
	if err != nil {
		return err
	}
	c.JSON(http.StatusOK, newRangeResult(w))
	return nil
}

// writable reads what is to be written where, and how it is laid out.
func writable(st site.Station, request RangeWrite) (site.Point, error) {
	wrong := func(field, value, format string, args ...any) error {
		return site.Errors{{Kind: site.KindStation, Name: st.Name, Field: field, Value: value, Message: fmt.Sprintf(format, args...)}}
	}
	what, err := st.Convention().ParseRange(request.Range, "")
	if err != nil {
		return site.Point{}, wrong("range", request.Range, "%s", err)
	}
	p, err := direct(st, what.Start, string(request.Type), string(request.Order), lengthText(request.Length))
	if err != nil {
		return p, err
	}
	width := p.Layout(st).Words()
	if n := len(request.Values); n == 0 || what.Count > 1 && n*width != what.Count {
		return p, wrong("values", fmt.Sprint(n), "%d values of %s take %d addresses, but %s has %d; give as many values as fit", n, p.Type, n*width, what, what.Count)
	}
	return p, nil
}

// lengthText is a length as direct takes it.
func lengthText(n int) string {
	if n == 0 {
		return ""
	}
	return strconv.Itoa(n)
}

func newRangeResult(w control.Write) RangeResult {
	list := func(v []codec.Value) []codec.Value { return append([]codec.Value{}, v...) }
	return RangeResult{w.Station, w.Address.String(), w.Outcome, list(w.Before), list(w.Sent), list(w.After), w.Message, w.NotAllowed}
}
