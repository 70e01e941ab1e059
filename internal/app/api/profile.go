package api

import (
	"net/http"

	"github.com/gin-gonic/gin"

	"arithmon/internal/core/site"
	"arithmon/internal/exchange/profile"
	"arithmon/internal/record/store"
)

// ProfileResult is what came of a device profile.
type ProfileResult struct {
	Vendor  string         `json:"vendor,omitempty"`
	Product string         `json:"product,omitempty"`
	Points  []ProfileEntry `json:"points"`
	Notes   []string       `json:"notes,omitempty" doc:"what was left out, and why"`
	Summary ChangeSummary  `json:"summary"`
}

// ProfileEntry is a point that a device profile describes.
type ProfileEntry struct {
	Tag         string       `json:"tag"`
	Address     site.Address `json:"address"`
	Class       int          `json:"class" doc:"of its events; 0 for none or where it is not said"`
	Unit        string       `json:"unit,omitempty"`
	Description string       `json:"description,omitempty"`
}

// profile makes points of a device profile.
func (s *Server) profile(c *gin.Context) error {
	st, err := s.whole(c, name(c))
	if err != nil {
		return err
	}
	if !st.Speaks().Traits().Profiles {
		return fail(http.StatusUnprocessableEntity, "station %s speaks Modbus; device profiles are of DNP3 outstations", st.Name)
	}
	dry, err := flag(c, "dry_run")
	if err != nil {
		return err
	}
	data, err := body(c, profile.MaxSize+1)
	if err != nil {
		return err
	}
	prefix := c.Query("prefix")
	if prefix == "" {
		prefix = st.Name + "/"
	}
	profile, err := profile.Read(c.DefaultQuery("file", "profile"), data, st.Name, prefix)
	if err != nil {
		return fail(http.StatusUnprocessableEntity, "%s", err)
	}
	changes, left, err := s.change(c, store.Edit{DryRun: dry}, func(d *site.Draft, _ *site.Site) {
		for _, p := range profile.Points {
			d.Put(p.Point)
		}
	})
	if err != nil {
		return err
	}
	out := ProfileResult{profile.Vendor, profile.Product, make([]ProfileEntry, len(profile.Points)), profile.Notes, summary(c, left, changes, dry)}
	for i, p := range profile.Points {
		out.Points[i] = ProfileEntry{p.Point.Tag, p.Point.Address, p.Class, p.Point.Unit, p.Point.Description}
	}
	c.JSON(http.StatusOK, out)
	return nil
}
