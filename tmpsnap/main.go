package main

import (
	"context"
	"fmt"
	"os"
	"strings"
	"time"

	"arithmon/internal/browser"
)

// usage: tmpsnap URL out.png path [click-selector | js:code | fill:sel=value | wait:sel]...
func main() {
	tab, err := browser.Open(context.Background(), 1280, 800)
	if err != nil {
		panic(err)
	}
	defer tab.Close()
	check := func(err error) {
		if err != nil {
			fmt.Println("ERR", err)
		}
	}
	check(tab.Go(os.Args[1] + os.Args[3]))
	time.Sleep(1500 * time.Millisecond)
	for _, a := range os.Args[4:] {
		switch {
		case strings.HasPrefix(a, "js:"):
			check(tab.Run(a[3:]))
		case strings.HasPrefix(a, "fill:"):
			sel, v, _ := strings.Cut(a[5:], "=>")
			check(tab.Fill(sel, v))
		case strings.HasPrefix(a, "wait:"):
			check(tab.Wait(a[5:]))
		case strings.HasPrefix(a, "sleep:"):
			d, _ := time.ParseDuration(a[6:])
			time.Sleep(d)
		default:
			check(tab.Click(a))
		}
		time.Sleep(500 * time.Millisecond)
	}
	time.Sleep(800 * time.Millisecond)
	b, err := tab.Picture()
	check(err)
	os.WriteFile(os.Args[2], b, 0o644)
}
