package main

import (
	"context"
	"fmt"
	"os"
	"strings"
	"time"

	"arithmon/internal/app/client"
	"arithmon/internal/app/service"
	"arithmon/internal/check/browser"
	"arithmon/internal/rig"
	"arithmon/web"
)

// followed measures a board of 60 displays and a trend of 12 points that follow at 1 s: frames a second, beside those of a page on which nothing
// moves, and the memory of the page.
func followed() error {
	const displays = 60
	var values, points, shown, tags strings.Builder
	for i := range displays {
		fmt.Fprintf(&values, "          - {at: 'hr:%d', type: int16, signal: wave, factor: %d}\n", i, 50+i)
		fmt.Fprintf(&points, "  - {tag: plant/value%02d, station: plc, address: 'hr:%d', type: int16, range: [-10000, 10000], unit: kPa, record: true}\n", i, i)
		show := []string{"gauge", "bar", "figure", "lamp"}[i%4]
		fmt.Fprintf(&shown, "      - {show: %s, tag: plant/value%02d, x: %d, y: %d, w: 4, h: 4}\n", show, i, 4*(i%6), 4*(i/6))
		if i < 12 {
			fmt.Fprintf(&tags, ",plant/value%02d", i)
		}
	}
	config, err := rig.Load("bench.yaml", []byte("rig: 1\nsignals:\n  wave: {kind: sine, min: -90, max: 90, period: 20s}\nlines:\n  - name: gate\n    listen: 127.0.0.1:0\n    stations:\n      - unit: 1\n        tables: {hr: 100}\n        values:\n"+values.String()))
	if err != nil {
		return err
	}
	devices, err := rig.Start(config, rig.Options{})
	if err != nil {
		return err
	}
	defer devices.Stop()
	dir, remove, err := temporary()
	if err != nil {
		return err
	}
	defer remove()
	s, err := service.Start(context.Background(), service.Options{Dir: dir, Listen: "127.0.0.1:0", Console: web.Console()})
	if err != nil {
		return err
	}
	defer s.Stop()
	_, port, _ := strings.Cut(devices.Address("gate"), ":")
	ctx := context.Background()
	file := fmt.Sprintf("arithmon: 1\nlinks: [{name: gate, host: 127.0.0.1, port: %s}]\nstations: [{name: plc, link: gate, unit: 1}]\npoints:\n%sboards:\n  - name: all\n    displays:\n%s", port, points.String(), shown.String())
	if _, err := client.New(s.URL, "bench").Apply(ctx, "bench.yaml", []byte(file), false, false); err != nil {
		return err
	}
	page, err := browser.Open(ctx, 1280, 1600)
	if err != nil {
		return err
	}
	defer page.Close()
	fmt.Println("following at 1 s, in headless Chromium: frames a second (wanted: 60), and memory of the page (wanted: under 150 MB)")
	for _, p := range []struct{ what, path, ready string }{
		{"a page on which nothing moves", "/notes", "h1"},
		{fmt.Sprintf("a board of %d displays", displays), "/boards?board=all", "[data-display='plant/value59'][data-quality=good]"},
		{"a trend of 12 points", "/trends?last=300&tags=" + strings.TrimPrefix(tags.String(), ","), "[data-test=chart] canvas"},
	} {
		if err := page.Go(s.URL + p.path); err != nil {
			return err
		}
		if err := page.Wait(p.ready); err != nil {
			return err
		}
		time.Sleep(5 * time.Second)
		drawn, err := frames(page, "document.createElement('div')")
		if err != nil {
			return err
		}
		memory, err := page.Number("performance.memory.usedJSHeapSize / 1e6")
		if err != nil {
			return err
		}
		fmt.Fprintf(os.Stdout, "  %-30s %.1f frames, %.0f MB\n", p.what, drawn, memory)
	}
	return nil
}
