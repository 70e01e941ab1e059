package api

import (
	"context"
	"fmt"
	"net/http"

	"github.com/gin-gonic/gin"

	"arithmon/internal/core/codec"
	"arithmon/internal/core/site"
	"arithmon/internal/live/engine"
)

// VisitRequest says which addresses of a device are read or written that is no station of the site.
type VisitRequest struct {
	Link   string        `json:"link,omitempty" doc:"of the site, on which the device is"`
	At     *site.Link    `json:"at,omitempty" doc:"or a far end that is no link of the site: {transport: tcp, host: 192.0.2.7}"`
	Unit   *int          `json:"unit,omitempty" doc:"or link address of an outstation (default 1)"`
	Master *int          `json:"master,omitempty" doc:"DNP3: link address of this end (default 1)"`
	Range  string        `json:"range" doc:"hr:0..9, 40001..40010 or one address"`
	Type   codec.Type    `json:"type,omitempty" doc:"data type of the values (default single registers)" enum:"bool,int8,uint8,int16,uint16,int32,uint32,int64,uint64,float32,float64,bcd16,bcd32,string,bits"`
	Order  codec.Order   `json:"order,omitempty" doc:"byte order (default ABCD)" enum:"ABCD,CDAB,BADC,DCBA"`
	Length int           `json:"length,omitempty" doc:"string: characters"`
	Values []codec.Value `json:"values,omitempty" doc:"to write, one for each value that fits the range"`
}

// visited is where a visit goes.
type visited struct {
	place
	station site.Station
	known   string // the enabled station of the site that it is; "" when it is none
}

// where says where a visit goes; its error names the field that is wrong.
func (s *Server) where(c *gin.Context, request VisitRequest) (v visited, err error) {
	if v.place, err = s.place(c, request.Link, newAt(request.At)); err != nil {
		return v, err
	}
	st := site.NewStation()
	address := 1
	if request.Unit != nil {
		address = *request.Unit
	}
	traits := v.link.Protocol.Traits()
	if address < 0 || address > traits.MaxAddress {
		return v, site.Errors{{Field: "unit", Value: fmt.Sprint(address), Message: fmt.Sprintf("%d is out of range: 0 to %d", address, traits.MaxAddress)}}
	}
	v.station = st.AtAddress(v.link.Protocol, address)
	v.station.Master = request.Master
	v.station.Name = fmt.Sprintf("%s %s", v.link.FarEnd(), v.station.Called())
	for _, st := range s.site(c).StationsOf(v.name) {
		if v.name != "" && st.LinkAddress() == address && st.Enabled && v.link.Enabled {
			v.known = st.Name
		}
	}
	return v, nil
}

// visit speaks to the station while nothing else uses its link.
func (s *Server) visit(ctx context.Context, to visited, why string, f func(context.Context, *engine.Visit) error) (err error) {
	if fault := s.take(ctx, to.place, why, func(ctx context.Context) {
		v := s.engine.Visit(ctx, to.link, to.station)
		defer v.Close()
		err = f(ctx, v)
	}); fault != nil {
		return fault
	}
	return err
}

// readVisit reads addresses of a device that is no station of the site.
func (s *Server) readVisit(c *gin.Context) error {
	request, err := request[VisitRequest](c)
	if err != nil {
		return err
	}
	if len(request.Values) > 0 {
		return site.Errors{{Field: "values", Message: "are to be written, and this reads; leave them out"}}
	}
	to, err := s.where(c, request)
	if err != nil {
		return err
	}
	what, p, err := wanted(to.station, request.Range, string(request.Type), string(request.Order), lengthText(request.Length))
	if err != nil {
		return err
	}
	var list Page[RawReading]
	if to.known != "" { // its link goes on
		samples, err := readAround(what, func(part site.Range) ([]tableSample, error) {
			return s.engine.ReadAddresses(c.Request.Context(), to.known, part)
		})
		if err != nil {
			return gateway(err)
		}
		c.JSON(http.StatusOK, rawReadings(samples, p, to.station, request.Type != ""))
		return nil
	}
	if err := s.visit(c.Request.Context(), to, "a read has the line", func(ctx context.Context, v *engine.Visit) error {
		samples, err := readAround(what, func(part site.Range) ([]tableSample, error) { return v.Read(ctx, part) })
		if err != nil {
			return gateway(err)
		}
		list = rawReadings(samples, p, to.station, request.Type != "")
		return nil
	}); err != nil {
		return err
	}
	c.JSON(http.StatusOK, list)
	return nil
}

// writeVisit writes addresses of a device that is no station of the site. It is recorded as every write is.
func (s *Server) writeVisit(c *gin.Context) error {
	request, err := request[VisitRequest](c)
	if err != nil {
		return err
	}
	to, err := s.where(c, request)
	if err != nil {
		return err
	}
	if to.known != "" { // whose points may forbid it
		return fail(http.StatusConflict, "%s is station %s; write to that: arithmon write --station %s", to.station.Name, to.known, to.known)
	}
	p, err := writable(to.station, RangeWrite{request.Range, request.Values, request.Type, request.Order, request.Length})
	if err != nil {
		return err
	}
	return s.visit(c.Request.Context(), to, "a write has the line", func(ctx context.Context, v *engine.Visit) error {
		w, err := s.control.At(v).WriteAddresses(ctx, principal(c), to.station, p, request.Values)
		if err != nil {
			return err
		}
		c.JSON(http.StatusOK, newRangeResult(w))
		return nil
	})
}
