package tie

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"arithmon/internal/core/document"
	"arithmon/internal/core/form"
	"arithmon/internal/core/site"
)

const drive = `
name: drive-x
identifies: ["*DX-40*"]
parameters: [{name: tag, description: what its tags begin with}, {name: base, default: 0}]
station: {notation: ref6, order: CDAB, poll: 2s, poll_groups: {fast: 200ms}}
points:
  - {tag: "{tag}/current", address: "{base+400010}", type: int16, unit: A, scaling: {factor: 0.1}}
  - {tag: "{tag}/power", address: "{base+400011}", type: float32, unit: kW}
  - {tag: "{tag}/run", address: "co:{base}", writable: true, states: [stopped, running]}
`

func entity(t *testing.T, d *site.Draft, kind site.Kind, text string) site.Entity {
	t.Helper()
	node, err := document.Parse([]byte(text))
	require.NoError(t, err, text)
	return form.Decode(kind, node, d, site.Fresh(kind))
}

// edit changes a site as the service does.
func edit(t *testing.T, s *site.Site, f func(d *site.Draft)) *site.Site {
	t.Helper()
	left, _, err := try(s, f)
	require.NoError(t, err)
	return left
}

func try(s *site.Site, f func(d *site.Draft)) (*site.Site, []site.Change, error) {
	d := s.Edit()
	f(d)
	Follow(d, false)
	changes, err := d.Changes()
	if err != nil {
		return s, nil, err
	}
	return s.With(changes), changes, nil
}

// patch changes fields of an entity.
func patch(t *testing.T, s *site.Site, kind site.Kind, name, text string) *site.Site {
	t.Helper()
	return edit(t, s, func(d *site.Draft) {
		node, err := document.Parse([]byte(text))
		require.NoError(t, err)
		from, ok := d.Get(kind, name)
		require.True(t, ok, name)
		d.Replace(name, form.Decode(kind, node, d, from))
	})
}

func plant(t *testing.T) *site.Site {
	return edit(t, site.New(), func(d *site.Draft) {
		d.Put(entity(t, d, site.KindTemplate, drive))
		d.Put(entity(t, d, site.KindLink, `{name: bus, host: 127.0.0.1}`))
		d.Put(entity(t, d, site.KindStation, `{name: d1, link: bus, unit: 1, template: drive-x, values: {tag: tern/d1}}`))
		d.Put(entity(t, d, site.KindStation, `{name: d2, link: bus, unit: 2, template: drive-x, poll: 5s, values: {tag: tern/d2, base: 100}}`))
	})
}

func pointOf(t *testing.T, s *site.Site, tag string) site.Point {
	t.Helper()
	p, ok := s.Point(tag)
	require.True(t, ok, tag)
	return p
}

func TestAStationIsMadeFromATemplate(t *testing.T) {
	s := plant(t)
	d1, _ := s.Station("d1")
	d2, _ := s.Station("d2")
	assert.Equal(t, "CDAB", string(d1.Order))
	assert.Equal(t, "2s", d1.Poll.String())
	assert.Equal(t, "5s", d2.Poll.String(), "what is said stands")
	assert.Equal(t, map[string]string{"tag": "tern/d1", "base": "0"}, d1.Values, "with the default of today")
	assert.Equal(t, "hr:9", pointOf(t, s, "tern/d1/current").Address.String())
	assert.Equal(t, "hr:109", pointOf(t, s, "tern/d2/current").Address.String())
	assert.Equal(t, "co:100", pointOf(t, s, "tern/d2/run").Address.String())
	assert.True(t, pointOf(t, s, "tern/d2/run").Writable)
	assert.Equal(t, 6, s.Count(site.KindPoint))
	own, err := Own(s, d1)
	require.NoError(t, err)
	assert.Empty(t, own)
	own, err = Own(s, d2)
	require.NoError(t, err)
	require.Len(t, own, 1)
	assert.Equal(t, Difference{Kind: site.KindStation, Name: "d2", What: OwnValue, Field: "poll", Own: []byte(`"5s"`), Template: []byte(`"2s"`)}, own[0])
}

func TestWhatIsChangedInATemplateChangesInItsStations(t *testing.T) {
	s := plant(t)
	s = patch(t, s, site.KindPoint, "tern/d2/current", `{unit: mA}`)
	s = patch(t, s, site.KindPoint, "tern/d1/power", `{tag: tern/d1/shaft-power}`)
	s = edit(t, s, func(d *site.Draft) { d.Remove(site.KindPoint, "tern/d2/run", false) })
	d2, _ := s.Station("d2")
	assert.Equal(t, []string{"{tag}/run"}, d2.LeftOut)

	s = patch(t, s, site.KindTemplate, "drive-x", `
station: {notation: ref6, order: ABCD, poll: 1s}
points:
  - {tag: "{tag}/motor-current", address: "{base+400010}", type: int16, unit: kA, decimals: 2}
  - {tag: "{tag}/power", address: "{base+400021}", type: float32, unit: W}
  - {tag: "{tag}/run", address: "co:{base+1}", writable: true, states: [halted, running]}
  - {tag: "{tag}/speed", address: "{base+400030}", type: uint16}
`)
	d1, _ := s.Station("d1")
	d2, _ = s.Station("d2")
	assert.Equal(t, "ABCD", string(d1.Order))
	assert.Nil(t, d1.PollGroups)
	assert.Equal(t, "1s", d1.Poll.String())
	assert.Equal(t, "5s", d2.Poll.String(), "its own stays")
	current := pointOf(t, s, "tern/d1/motor-current")
	assert.Equal(t, "kA", current.Unit)
	assert.True(t, current.Scaling.IsZero())
	assert.Equal(t, "mA", pointOf(t, s, "tern/d2/motor-current").Unit, "renamed with its template, and its own unit stays")
	assert.Equal(t, int64(2), s.Version(site.KindPoint, "tern/d1/motor-current"), "it is the same point")
	power := pointOf(t, s, "tern/d1/shaft-power")
	assert.Equal(t, "hr:20", power.Address.String(), "a point that was renamed follows in all else")
	assert.Equal(t, "W", power.Unit)
	_, back := s.Point("tern/d2/run")
	assert.False(t, back, "what was left out stays out")
	assert.Equal(t, "co:1", pointOf(t, s, "tern/d1/run").Address.String())
	assert.Equal(t, "hr:129", pointOf(t, s, "tern/d2/speed").Address.String())
	assert.Equal(t, []string{"{tag}/run"}, d2.LeftOut)
}

func TestValuesMove(t *testing.T) {
	s := patch(t, plant(t), site.KindStation, "d1", `{values: {tag: heron/x, base: 200}}`)
	assert.Equal(t, "hr:209", pointOf(t, s, "heron/x/current").Address.String())
	_, still := s.Point("tern/d1/current")
	assert.False(t, still)
	assert.Equal(t, 6, s.Count(site.KindPoint))
	s = patch(t, s, site.KindStation, "d1", `{template: null, values: null}`)
	assert.Equal(t, 6, s.Count(site.KindPoint), "it stands alone now, with its points")
	s = patch(t, s, site.KindStation, "d1", `{template: drive-x, values: {tag: heron/x, base: 200}}`)
	assert.Equal(t, 6, s.Count(site.KindPoint))
	d1, _ := s.Station("d1")
	own, err := Own(s, d1)
	require.NoError(t, err)
	assert.Empty(t, own)
}

func TestTakingWhatTheTemplateHas(t *testing.T) {
	s := plant(t)
	s = patch(t, s, site.KindPoint, "tern/d2/current", `{unit: mA, tag: tern/d2/amps}`)
	s = edit(t, s, func(d *site.Draft) { d.Remove(site.KindPoint, "tern/d2/run", false) })
	s = edit(t, s, func(d *site.Draft) {
		d.Put(entity(t, d, site.KindPoint, `{tag: tern/d2/more, station: d2, address: "400500"}`))
	})
	d2, _ := s.Station("d2")
	own, err := Own(s, d2)
	require.NoError(t, err)
	require.Len(t, own, 5, "poll, tag, unit, what was left out, what was added")
	some := edit(t, s, func(d *site.Draft) { require.NoError(t, Take(d, d2, []string{"*amps"}, []string{"unit"})) })
	assert.Equal(t, "A", pointOf(t, some, "tern/d2/amps").Unit)
	all := edit(t, s, func(d *site.Draft) { require.NoError(t, Take(d, d2, nil, nil)) })
	d2, _ = all.Station("d2")
	assert.Equal(t, "2s", d2.Poll.String())
	assert.Nil(t, d2.LeftOut)
	assert.Equal(t, "A", pointOf(t, all, "tern/d2/current").Unit)
	own, err = Own(all, d2)
	require.NoError(t, err)
	assert.Equal(t, []Difference{{Kind: site.KindPoint, Name: "tern/d2/more", What: Added}}, own)
}

func TestLeftOutByHand(t *testing.T) {
	s := patch(t, plant(t), site.KindStation, "d1", `{left_out: ["{tag}/power"]}`)
	_, there := s.Point("tern/d1/power")
	assert.False(t, there)
	s = patch(t, s, site.KindStation, "d1", `{left_out: null}`)
	assert.Equal(t, "kW", pointOf(t, s, "tern/d1/power").Unit)
}

func TestFaultsOfTemplates(t *testing.T) {
	for text, want := range map[string]string{
		`{name: x, points: [{tag: "{tag}/a", address: hr:0}]}`:                                                                                   `no parameter "tag"`,
		`{name: x, parameters: [{name: tag}], points: [{tag: same, address: hr:0}]}`:                                                             "the same for every station",
		`{name: x, parameters: [{name: tag}], points: [{address: hr:0}]}`:                                                                        "points[0].tag: is missing",
		`{name: x, parameters: [{name: tag}], points: [{tag: "{tag}", address: hr:0, type: int17}]}`:                                             "points[0].type",
		`{name: x, parameters: [{name: tag}], points: [{tag: "{tag}", address: hr:0, colour: red}]}`:                                             `unknown field "colour"`,
		`{name: x, parameters: [{name: tag}], points: [{tag: "{tag}/a", address: hr:0, station: plc}]}`:                                          "points[0].station",
		`{name: x, parameters: [{name: tag}], points: [{tag: "{tag}/a", address: "hr:{tag+1}", type: uint16}, {tag: "{tag}/a", address: hr:1}]}`: "the tag of points[0], too",
		`{name: x, parameters: [{name: tag}], points: [{tag: "{tag}/a", address: "hr:99999"}]}`:                                                  "points[0].address",
		`{name: x, parameters: [{name: tag}], station: {unit: 4}, points: []}`:                                                                   "every station has its own",
		`{name: x, parameters: [{name: tag}], station: {pol: 4}, points: []}`:                                                                    `unknown field "pol"; did you mean poll`,
		`{name: x, parameters: [{name: tag}], station: {poll: never}, points: []}`:                                                               "never",
		`{name: x, identifies: ["*"]}`:                      "fits every device",
		`{name: x, parameters: [{name: tag}, {name: tag}]}`: "there twice",
		`{name: x, parameters: [{name: tag}], protocol: dnp3, points: [{tag: "{tag}/a", address: "hr:0"}]}`:                     "points[0].address",
		`{name: x, parameters: [{name: tag}, {name: b}], points: [{tag: "{tag}", address: hr:0}, {tag: "{b}", address: hr:1}]}`: "is the same as that of points[0]",
	} {
		_, _, err := try(site.New(), func(d *site.Draft) { d.Put(entity(t, d, site.KindTemplate, text)) })
		if assert.Error(t, err, text) {
			assert.Contains(t, err.Error(), want, text)
		}
	}
	s := plant(t)
	for text, want := range map[string]string{
		`{name: d3, link: bus, unit: 3, template: drive-y}`:                                                    `no template "drive-y"; did you mean drive-x`,
		`{name: d3, link: bus, unit: 3, template: drive-x}`:                                                    "tag is missing",
		`{name: d3, link: bus, unit: 3, template: drive-x, values: {tag: tern/d1}}`:                            "is taken",
		`{name: d3, link: bus, unit: 3, template: drive-x, values: {tag: a, base: x}}`:                         "no whole number",
		`{name: d3, link: bus, unit: 3, template: drive-x, values: {tag: a, bas: 3}}`:                          `no parameter "bas"; it has tag, base`,
		`{name: d3, link: bus, unit: 3, template: drive-x, values: {tag: "a b"}}`:                              "use letters",
		`{name: d3, link: bus, unit: 3, template: drive-x, values: {tag: a}, left_out: ["{tag}/curent"]}`:      `no point "{tag}/curent"; did you mean {tag}/current`,
		`{name: d3, link: bus, unit: 3, template: drive-x, values: {tag: "` + strings.Repeat("a", 201) + `"}}`: "at most 200 are allowed",
		`{name: d3, link: bus, unit: 3, values: {tag: a}}`:                                                     "the station names none",
		`{name: d3, link: bus, unit: 3, template: drive-x, values: {tag: a, base: 65530}}`:                     "465540",
	} {
		left, _, err := try(s, func(d *site.Draft) { d.Put(entity(t, d, site.KindStation, text)) })
		if assert.Error(t, err, text) {
			assert.Contains(t, err.Error(), want, text)
		}
		assert.Same(t, s, left)
	}
}

func TestATemplateThatIsUsed(t *testing.T) {
	s := plant(t)
	_, _, err := try(s, func(d *site.Draft) { d.Remove(site.KindTemplate, "drive-x", false) })
	assert.ErrorContains(t, err, "2 stations name it, d1 among them")
	left := edit(t, s, func(d *site.Draft) { d.Remove(site.KindTemplate, "drive-x", true) })
	d1, _ := left.Station("d1")
	assert.Empty(t, d1.Template)
	assert.Nil(t, d1.Values)
	assert.Equal(t, 6, left.Count(site.KindPoint))
	named, changes, err := try(s, func(d *site.Draft) {
		e, _ := d.Get(site.KindTemplate, "drive-x")
		n := e.(site.Template)
		n.Name = "drive-z"
		d.Replace("drive-x", n)
	})
	require.NoError(t, err)
	assert.Len(t, changes, 3, "the template and the two that name it")
	d1, _ = named.Station("d1")
	assert.Equal(t, "drive-z", d1.Template)
}

func TestMake(t *testing.T) {
	s := edit(t, site.New(), func(d *site.Draft) {
		d.Put(entity(t, d, site.KindLink, `{name: bus, host: 127.0.0.1}`))
		d.Put(entity(t, d, site.KindStation, `{name: d1, link: bus, unit: 1, notation: ref6, order: CDAB, poll: 2s}`))
		for _, p := range []string{
			`{tag: tern/d1/current, station: d1, address: 400110, type: float32, unit: A, description: "as {shown}", range: [0, 1.5]}`,
			`{tag: tern/d1/run, station: d1, address: "co:100", writable: true, states: [off, on]}`,
			`{tag: tern/d1/fault, station: d1, address: "400111.3"}`,
		} {
			d.Put(entity(t, d, site.KindPoint, p))
		}
	})
	base := 100
	made := edit(t, s, func(d *site.Draft) {
		_, err := Make(d, s, Making{Name: "drive", Station: "d1", Base: &base})
		require.NoError(t, err)
	})
	d1, _ := made.Station("d1")
	assert.Equal(t, map[string]string{"tag": "tern/d1", "base": "100"}, d1.Values)
	own, err := Own(made, d1)
	require.NoError(t, err)
	assert.Empty(t, own, "it is as its template has it")
	made = edit(t, made, func(d *site.Draft) {
		d.Put(entity(t, d, site.KindStation, `{name: d2, link: bus, unit: 2, template: drive, values: {tag: tern/d2, base: 0}}`))
	})
	current := pointOf(t, made, "tern/d2/current")
	assert.Equal(t, "hr:9", current.Address.String())
	assert.Equal(t, "as {shown}", current.Description)
	assert.Equal(t, "hr:10.3", pointOf(t, made, "tern/d2/fault").Address.String())
	_, err = Make(s.Edit(), s, Making{Name: "x", Station: "none"})
	assert.ErrorContains(t, err, "no station")
	_, err = Make(s.Edit(), s, Making{Name: "x", Station: "d1", Tags: "other"})
	assert.ErrorContains(t, err, "does not begin with other")
	high := 101
	_, err = Make(s.Edit(), s, Making{Name: "x", Station: "d1", Base: &high})
	assert.ErrorContains(t, err, "before the base 101")
}

func TestWhatTagsHaveInCommon(t *testing.T) {
	for want, tags := range map[string][]string{
		"a/b":   {"a/b/c", "a/b/d"},
		"a":     {"a/bc", "a/bd"},
		"pump1": {"pump1-current", "pump1-power"},
		"x/y":   {"x/y/z"},
		"p/q":   {"p/q", "p/q/r"},
		"":      {"a/b", "c/d"},
	} {
		var points []site.Point
		for _, tag := range tags {
			points = append(points, site.Point{Tag: tag})
		}
		if want == "p/q" {
			want = "p"
		}
		assert.Equal(t, want, common(points), tags)
	}
}

func TestAPointWithItsOwnValuesOutlivesItsTemplates(t *testing.T) {
	s := patch(t, plant(t), site.KindPoint, "tern/d2/run", `{description: mine}`)
	s = patch(t, s, site.KindTemplate, "drive-x", `{points: [{tag: "{tag}/power", address: "{base+400011}", type: float32, unit: kW}]}`)
	_, gone := s.Point("tern/d1/run")
	assert.False(t, gone)
	assert.Equal(t, "mine", pointOf(t, s, "tern/d2/run").Description)
	d2, _ := s.Station("d2")
	own, err := Own(s, d2)
	require.NoError(t, err)
	assert.Contains(t, own, Difference{Kind: site.KindPoint, Name: "tern/d2/run", What: Added})
}
