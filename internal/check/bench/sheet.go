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
	"arithmon/web"
)

// sheetPoints is how many points a sheet holds, and a site file that is applied.
const sheetPoints = 50_000

// sheet measures a site file of 50,000 points, taken over, and the sheet of points with as many rows: from the empty page to rows that can be typed
// into, the part of it that the service takes, and frames while it is scrolled, beside those of an empty page that is painted as often.
func sheet() error {
	dir, err := os.MkdirTemp("", "bench")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	s, err := service.Start(context.Background(), service.Options{Dir: dir, Listen: "127.0.0.1:0", Console: web.Console()})
	if err != nil {
		return err
	}
	defer s.Stop()
	var file strings.Builder
	file.WriteString("arithmon: 1\nlinks: [{name: gate, host: 127.0.0.1, enabled: false}]\nstations: [{name: plc, link: gate}]\npoints:\n")
	for i := range sheetPoints {
		fmt.Fprintf(&file, "  - {tag: plant/area%02d/point%05d, station: plc, address: 'hr:%d', type: int16, scaling: {raw: [0, 27648], eng: [0, 100]}, unit: '%%', description: Point %d}\n", i%40, i, i, i)
	}
	ctx := context.Background()
	c := client.New(s.URL, "bench")
	began := time.Now()
	if _, err := c.Apply(ctx, "bench.yaml", []byte(file.String()), false, false); err != nil {
		return err
	}
	fmt.Printf("a site file of %d points: taken over in %s\n", sheetPoints, time.Since(began).Round(10*time.Millisecond))
	began = time.Now()
	if err := get(s.URL + "/api/v1/export/points?form=json"); err != nil {
		return err
	}
	fmt.Printf("the sheet of %d points: the service gives its rows in %s\n", sheetPoints, time.Since(began).Round(10*time.Millisecond))
	page, err := browser.Open(ctx, 1280, 800)
	if err != nil {
		return err
	}
	defer page.Close()
	for range 3 {
		if err := page.Go(s.URL + "/overview"); err != nil { // so that the console's own code is there
			return err
		}
		if err := page.Wait("h1"); err != nil {
			return err
		}
		if err := page.Run(opening); err != nil {
			return err
		}
		if err := page.Until("window.sheetReady > 0"); err != nil {
			return err
		}
		ready, err := page.Number("window.sheetReady")
		if err != nil {
			return err
		}
		empty, err := frames(page, "document.createElement('div')")
		if err != nil {
			return err
		}
		scrolled, err := frames(page, "document.querySelector('revo-grid .vertical-inner')")
		if err != nil {
			return err
		}
		fmt.Printf("  usable %.0f ms after the empty page; %.1f frames a second while it is scrolled, %.1f where nothing is\n", ready, scrolled, empty)
	}
	return nil
}

// opening goes to the page of points and notes when its rows can be typed into.
const opening = `window.sheetReady = 0;
	document.querySelector('[data-test=page-points]').click();
	(async () => {
		while (!document.querySelector('[data-test=sheet]')) await new Promise(requestAnimationFrame);
		const began = performance.now();
		while (document.querySelector('[data-test=sheet]').dataset.loaded === 'no' || document.querySelectorAll('.rgRow').length < 20) await new Promise(requestAnimationFrame);
		window.sheetReady = performance.now() - began;
	})();`

// frames counts frames a second while an element is scrolled for three seconds.
func frames(page *browser.Page, element string) (float64, error) {
	if err := page.Run(`window.framesSeen = 0; (async () => {
		const at = ` + element + `; let n = 0; const began = performance.now();
		while (performance.now() - began < 3000) { at.scrollTop += 56; await new Promise(requestAnimationFrame); n++ }
		window.framesSeen = n / ((performance.now() - began) / 1000) })();`); err != nil {
		return 0, err
	}
	if err := page.Until("window.framesSeen > 0"); err != nil {
		return 0, err
	}
	return page.Number("window.framesSeen")
}
