// Package browser drives the console in headless Chromium, as a person would:
// it clicks, types and waits for what can be seen.
package browser

import (
	"context"
	"fmt"
	"os"
	"strings"
	"sync"
	"time"

	"github.com/chromedp/chromedp"
)

// Browser is one tab.
type Browser struct {
	ctx  context.Context
	stop []func()
}

// room is for as many browsers as may run at a time: with more of them, however many tests do, none
// would draw a page in time.
var room = make(chan struct{}, 6)

// Open starts Chromium with a fresh profile, 1280 by 800, when there is room for it.
func Open(ctx context.Context) (*Browser, error) {
	select {
	case room <- struct{}{}:
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	leave := sync.OnceFunc(func() { <-room })
	dir, err := os.MkdirTemp("", "browser")
	if err != nil {
		leave()
		return nil, err
	}
	b := &Browser{}
	opts := append(
		chromedp.DefaultExecAllocatorOptions[:],
		chromedp.NoSandbox,
		chromedp.DisableGPU,
		chromedp.UserDataDir(dir),
		chromedp.WindowSize(1280, 800),
		chromedp.Flag("disable-quic", true),
		chromedp.Flag("disable-component-update", true),
	)
	ctx, cancelAlloc := chromedp.NewExecAllocator(ctx, opts...)
	ctx, cancelTab := chromedp.NewContext(ctx)
	b.ctx, b.stop = ctx, []func(){cancelTab, cancelAlloc, func() { _ = os.RemoveAll(dir) }, leave}
	if err := chromedp.Do(ctx, chromedp.EmulateViewport(1280, 800)); err != nil {
		b.Close()
		return nil, err
	}
	return b, nil
}

// Close ends Chromium.
func (b *Browser) Close() {
	for _, f := range b.stop {
		f()
	}
}

// patience is how long a step may take, also where many browsers share few cores.
const patience = 2 * time.Minute

func (b *Browser) do(steps ...chromedp.Action[chromedp.Void]) error {
	ctx, cancel := context.WithTimeout(b.ctx, patience)
	defer cancel()
	return chromedp.Do(ctx, steps...)
}

// Go opens an address.
func (b *Browser) Go(url string) error { return b.do(chromedp.Navigate(url)) }

// Type types text into the element.
func (b *Browser) Type(css, text string) error {
	if err := b.do(chromedp.WaitVisible(chromedp.CSS(css)), chromedp.SendKeys(chromedp.CSS(css), text)); err != nil {
		return fmt.Errorf("type into %s: %w", css, err)
	}
	return nil
}

// Click clicks the first visible element that matches css and has the text.
func (b *Browser) Click(css, text string) error {
	const mark = "data-wanted"
	// What lies under a dialog that is still fading would not be hit.
	find := fmt.Sprintf(`(() => {
		const over = [...document.querySelectorAll('.el-overlay')].filter(e => getComputedStyle(e).display !== 'none')
		document.querySelectorAll('[%[1]s]').forEach(e => e.removeAttribute('%[1]s'))
		const hit = e => over.length === 0 || over.some(o => o.contains(e)) || e.closest('.el-popper')
		const e = [...document.querySelectorAll(%[2]q)].find(e => e.offsetParent !== null && hit(e)
			&& (e.textContent + ' ' + (e.getAttribute('aria-label') || '')).includes(%[3]q))
		e?.setAttribute('%[1]s', '')
		return !!e
	})()`, mark, css, text)
	if err := b.Wait(find); err != nil {
		return fmt.Errorf("find %s with %q: %w", css, text, err)
	}
	// What still slides in would be missed: it has to be at one place twice, and nothing it lies in may be about to move. On
	// a busy machine no frame may have been drawn between two looks, so that standing still alone says little.
	still := fmt.Sprintf(`(() => {
		const e = document.querySelector('[%[1]s]')
		if (!e) return true
		if (e.closest('[class*="-enter-"], [class*="-leave-"]')) return false
		if (document.getAnimations().some(a => a.playState === 'running' && a.effect.target?.contains(e))) return false
		e.scrollIntoView({ block: 'nearest' })
		const at = JSON.stringify(e.getBoundingClientRect())
		const same = e.getAttribute('%[1]s') === at
		e.setAttribute('%[1]s', at)
		return same
	})()`, mark)
	if err := b.Wait(still); err != nil {
		return fmt.Errorf("wait until %s with %q stands still: %w", css, text, err)
	}
	return b.do(chromedp.Click(chromedp.CSS("[" + mark + "]")))
}

// Wait waits until the JavaScript expression is true.
func (b *Browser) Wait(expression string) error {
	ctx, cancel := context.WithTimeout(b.ctx, patience)
	defer cancel()
	for {
		_, err := chromedp.Run(
			ctx,
			chromedp.Poll[bool](expression, chromedp.WithPollingInterval(50*time.Millisecond), chromedp.WithPollingTimeout(patience)),
		)
		if err == nil {
			return nil
		}
		if ctx.Err() == nil && leaving(err) {
			continue // the page was left for the next one
		}
		text, _ := b.Text()
		return fmt.Errorf("wait for %s: %w; the page says:\n%s", expression, err, text)
	}
}

// leaving reports whether an evaluation ended because the page was left.
func leaving(err error) bool {
	for _, why := range []string{"navigated or closed", "context was destroyed", "Cannot find context"} {
		if strings.Contains(err.Error(), why) {
			return true
		}
	}
	return false
}

// Shows waits until the page shows the text.
func (b *Browser) Shows(text string) error {
	return b.Wait(fmt.Sprintf("document.body.innerText.includes(%q)", text))
}

// Text returns the text of the page.
func (b *Browser) Text() (string, error) { return Eval[string](b, "document.body.innerText") }

// Eval returns the value of a JavaScript expression.
func Eval[T any](b *Browser, expression string) (T, error) {
	ctx, cancel := context.WithTimeout(b.ctx, patience)
	defer cancel()
	return chromedp.Run(ctx, chromedp.Evaluate[T](expression))
}

// Size gives the page another size.
func (b *Browser) Size(width, height int64) error {
	return b.do(chromedp.EmulateViewport(width, height))
}

// Shot takes a picture of the window as PNG.
func (b *Browser) Shot() ([]byte, error) {
	ctx, cancel := context.WithTimeout(b.ctx, patience)
	defer cancel()
	return chromedp.Run(ctx, chromedp.CaptureScreenshot())
}
