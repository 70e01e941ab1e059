// Package browser starts headless Chromium for the console's tests and pictures.
package browser

import (
	"context"
	"fmt"
	"os/exec"
	"slices"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// Find returns the path of Debian's Chromium, or of another build by its usual names: the one without windows of its own first, which starts
// in a fifth of the time.
func Find() (string, error) {
	for _, name := range []string{"chromium-headless-shell", "chromium", "chromium-browser", "google-chrome"} {
		if path, err := exec.LookPath(name); err == nil {
			return path, nil
		}
	}
	return "", fmt.Errorf("no Chromium on this machine; make tools installs Debian's")
}

// patience is how long any one step may take; a machine under load is slow.
const patience = 30 * time.Second

// Page is one page of a browser of its own.
type Page struct {
	ctx  context.Context
	stop func()
}

// Open starts a browser with one empty page of the given size; Close ends it.
func Open(ctx context.Context, width, height int) (*Page, error) {
	path, err := Find()
	if err != nil {
		return nil, err
	}
	options := append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.ExecPath(path), chromedp.NoSandbox, chromedp.DisableGPU, chromedp.WindowSize(width, height),
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-component-update", true), chromedp.Flag("lang", "en-GB"))
	allocated, stopAllocator := chromedp.NewExecAllocator(ctx, options...)
	tab, stopTab := chromedp.NewContext(allocated)
	p := &Page{tab, func() { stopTab(); stopAllocator() }}
	if err := chromedp.Do(tab, chromedp.EmulateViewport(int64(width), int64(height))); err != nil {
		p.Close()
		return nil, fmt.Errorf("starting %s: %w", path, err)
	}
	return p, nil
}

// Close ends the browser.
func (p *Page) Close() { p.stop() }

// do runs steps with patience and says which one failed.
func (p *Page) do(what string, steps ...chromedp.Action[chromedp.Void]) error {
	ctx, cancel := context.WithTimeout(p.ctx, patience)
	defer cancel()
	if err := chromedp.Do(ctx, steps...); err != nil {
		return fmt.Errorf("%s: %w", what, err)
	}
	return nil
}

// Go opens an address.
func (p *Page) Go(url string) error { return p.do("opening "+url, chromedp.Navigate(url)) }

// Wait waits until an element is visible, named by a CSS selector as in all of these.
func (p *Page) Wait(selector string) error {
	return p.do("waiting for "+selector, chromedp.WaitVisible(chromedp.CSS(selector)))
}

// Click clicks an element once it is visible. The click is the page's own, so that a drawer that still slides in
// does not make it miss.
func (p *Page) Click(selector string) error {
	return p.do("clicking "+selector, chromedp.WaitVisible(chromedp.CSS(selector)),
		chromedp.Evaluate[chromedp.Void](fmt.Sprintf("document.querySelector(%q).click()", selector)))
}

// Press presses the mouse on an element, as a person does: where it is, with all that comes of that.
func (p *Page) Press(selector string) error {
	return p.do("pressing "+selector, chromedp.Click(chromedp.CSS(selector)))
}

// still waits until an element stays where it is, and if wanted until nothing lies over its middle, and gives its left, top, width and height.
func still(ctx context.Context, selector string, free bool) (box []float64, err error) {
	where := fmt.Sprintf(`(() => {
		const e = document.querySelector(%q)
		if (!e) return [0, 0, 0, 0, 0]
		const { left, top, width, height } = e.getBoundingClientRect()
		const over = document.elementFromPoint(left + width / 2, top + height / 2)
		return [left, top, width, height, over && (e.contains(over) || over.contains(e)) ? 1 : 0]
	})()`, selector)
	for {
		was := box
		if box, err = chromedp.Run(ctx, chromedp.Evaluate[[]float64](where)); err != nil {
			return nil, err
		}
		if slices.Equal(was, box) && box[2] > 0 && (box[4] == 1 || !free) {
			return box, nil
		}
		select {
		case <-ctx.Done():
			return nil, fmt.Errorf("%s does not stay where it is: %w", selector, ctx.Err())
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// Drag presses the mouse on the middle of an element, moves it to a place within another, from its top left, and lets go there.
func (p *Page) Drag(from, to string, x, y float64) error {
	return p.do("dragging "+from+" to "+to, chromedp.WaitVisible(chromedp.CSS(from)), chromedp.WaitVisible(chromedp.CSS(to)), chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		a, err := still(ctx, from, true)
		if err != nil {
			return err
		}
		b, err := still(ctx, to, false)
		if err != nil {
			return err
		}
		begin, end := [2]float64{a[0] + a[2]/2, a[1] + a[3]/2}, [2]float64{b[0] + x, b[1] + y}
		const steps = 10
		for i := range steps + 2 {
			along := float64(min(i, steps)) / steps
			event := input.DispatchMouseEventParams{Type: input.DispatchMouseEventTypeMouseMoved, Button: input.MouseButtonLeft, Buttons: 1, ClickCount: 1,
				X: begin[0] + (end[0]-begin[0])*along, Y: begin[1] + (end[1]-begin[1])*along}
			switch i {
			case 0:
				event.Type = input.DispatchMouseEventTypeMousePressed
			case steps + 1:
				event.Type, event.Buttons = input.DispatchMouseEventTypeMouseReleased, 0
			}
			if _, err := cdp.Call(ctx, t, input.DispatchMouseEvent, event); err != nil {
				return err
			}
		}
		return nil
	}))
}

// Pinch puts two fingers on an element, beside its middle, and moves them apart or together: by how many times.
func (p *Page) Pinch(selector string, by float64) error {
	return p.do("pinching "+selector, chromedp.WaitVisible(chromedp.CSS(selector)), chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		box, err := still(ctx, selector, true)
		if err != nil {
			return err
		}
		const apart, steps = 60, 8
		one, two := 1.0, 2.0
		x, y := box[0]+box[2]/2, box[1]+box[3]/2
		for i := range steps + 2 {
			half := apart * (1 + (by-1)*float64(min(i, steps))/steps)
			event := input.DispatchTouchEventParams{Type: input.DispatchTouchEventTypeTouchMove, TouchPoints: []*input.TouchPoint{{X: x - half, Y: y, ID: &one}, {X: x + half, Y: y, ID: &two}}}
			switch i {
			case 0:
				event.Type = input.DispatchTouchEventTypeTouchStart
			case steps + 1:
				event.Type, event.TouchPoints = input.DispatchTouchEventTypeTouchEnd, []*input.TouchPoint{}
			}
			if _, err := cdp.Call(ctx, t, input.DispatchTouchEvent, event); err != nil {
				return err
			}
		}
		return nil
	}))
}

// Fill replaces the text of an input by typing.
func (p *Page) Fill(selector, text string) error {
	sel := chromedp.CSS(selector)
	return p.do("typing into "+selector, chromedp.WaitVisible(sel), chromedp.Focus(sel),
		chromedp.Evaluate[chromedp.Void](fmt.Sprintf("document.querySelector(%q).select()", selector)), chromedp.KeyEvent(kb.Backspace), chromedp.SendKeys(sel, text))
}

// Give chooses a file for an input of files.
func (p *Page) Give(selector, path string) error {
	return p.do("giving a file to "+selector, chromedp.SetUploadFiles(chromedp.CSS(selector), []string{path}))
}

// Key presses a key, such as those of the package kb.
func (p *Page) Key(key string) error { return p.do("key", chromedp.KeyEvent(key)) }

// Type types as a keyboard does: a character comes of a key that is pressed, unless the page takes the key for something else.
func (p *Page) Type(text string) error {
	return p.do("typing", chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
		for _, r := range text {
			var down, up *input.DispatchKeyEventParams
			for _, k := range kb.Encode(r) {
				switch k.Type {
				case kb.KeyChar:
					down.Text = k.Text
				case kb.KeyUp:
					up = k
				default:
					down = k
				}
			}
			down.Type = input.DispatchKeyEventTypeKeyDown
			for _, k := range []*input.DispatchKeyEventParams{down, up} {
				if _, err := cdp.Call(ctx, t, input.DispatchKeyEvent, *k); err != nil {
					return err
				}
			}
		}
		return nil
	}))
}

// Chord presses a key together with Ctrl, and with Shift.
func (p *Page) Chord(key string, shift bool) error {
	modifiers := []chromedp.Modifier{chromedp.ModifierCtrl}
	if shift {
		modifiers = append(modifiers, chromedp.ModifierShift)
	}
	return p.do("pressing Ctrl "+key, chromedp.KeyEvent(key, chromedp.KeyModifiers(modifiers...)))
}

// Text is the text of an element as it is shown.
func (p *Page) Text(selector string) (string, error) {
	ctx, cancel := context.WithTimeout(p.ctx, patience)
	defer cancel()
	return chromedp.Run(ctx, chromedp.Text(chromedp.CSS(selector)))
}

// Run runs a script.
func (p *Page) Run(script string) error {
	return p.do("running a script", chromedp.Evaluate[chromedp.Void](script))
}

// Number is the value of an expression.
func (p *Page) Number(expression string) (float64, error) {
	ctx, cancel := context.WithTimeout(p.ctx, patience)
	defer cancel()
	return chromedp.Run(ctx, chromedp.Evaluate[float64](expression))
}

// Until waits until an expression is true.
func (p *Page) Until(expression string) error {
	return p.do("waiting until "+expression, chromedp.Poll[chromedp.Void](expression, chromedp.WithPollingInterval(50*time.Millisecond), chromedp.WithPollingTimeout(patience)))
}

// Picture is what the page looks like, as PNG.
func (p *Page) Picture() ([]byte, error) {
	ctx, cancel := context.WithTimeout(p.ctx, patience)
	defer cancel()
	return chromedp.Run(ctx, chromedp.CaptureScreenshot())
}
