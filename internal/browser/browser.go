// Package browser drives a headless Chromium in tests, by the browser's own protocol. Only tests import it.
package browser

import (
	"context"
	"encoding/json"
	"os"
	"os/exec"
	"testing"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"
)

// A Tab is a page in a browser. What fails in it ends the test.
type Tab struct {
	t   *testing.T
	ctx context.Context
}

// Open opens an empty page in a browser that ends with the test, after five minutes at most. The test is skipped in short mode,
// and where there is no chromium; in CI it fails then, since .ci/run installs one.
func Open(t *testing.T) *Tab {
	t.Helper()
	if testing.Short() {
		t.Skip("a browser takes long to start")
	}
	path, err := exec.LookPath("chromium")
	if err != nil {
		if os.Getenv("CI") != "" {
			t.Fatal("CI has no chromium: .ci/run installs it")
		}
		t.Skip("there is no chromium here")
	}
	ctx, stop := context.WithTimeout(context.Background(), 5*time.Minute)
	t.Cleanup(stop)
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(path), chromedp.NoSandbox, chromedp.DisableGPU,
		chromedp.WindowSize(1280, 800), chromedp.UserDataDir(t.TempDir()), chromedp.Flag("disable-quic", true))
	ctx, stop = chromedp.NewExecAllocator(ctx, options...)
	t.Cleanup(stop)
	ctx, stop = chromedp.NewContext(ctx)
	t.Cleanup(stop)
	b := &Tab{t, ctx}
	b.Do()
	return b
}

// Do takes steps in the page.
func (b *Tab) Do(steps ...chromedp.Action[chromedp.Void]) {
	b.t.Helper()
	if err := chromedp.Do(b.ctx, steps...); err != nil {
		b.t.Fatalf("%v\n%s", err, b.said())
	}
}

// said is the text of the page, for a test that fails.
func (b *Tab) said() string {
	ctx, stop := context.WithTimeout(b.ctx, 10*time.Second)
	defer stop()
	text, _ := chromedp.Run(ctx, chromedp.Evaluate[string]("document.body.innerText"))
	return text
}

// Go opens an address.
func (b *Tab) Go(address string) {
	b.t.Helper()
	b.Do(chromedp.Navigate(address))
}

// Until waits until an expression of JavaScript is true.
func (b *Tab) Until(expression string) {
	b.t.Helper()
	ctx, stop := context.WithTimeout(b.ctx, time.Minute)
	defer stop()
	if _, err := chromedp.Run(ctx, chromedp.Poll[chromedp.Void](expression, chromedp.WithPollingTimeout(0))); err != nil {
		b.t.Fatalf("%s: %v\n%s", expression, err, b.said())
	}
}

// Value is that of an expression of JavaScript, or what it is a promise of.
func (b *Tab) Value(expression string, into any) {
	b.t.Helper()
	text, err := chromedp.Run(b.ctx, chromedp.Evaluate[json.RawMessage](expression, chromedp.EvalAwaitPromise))
	if err == nil {
		err = json.Unmarshal(text, into)
	}
	if err != nil {
		b.t.Fatalf("%s: %v", expression, err)
	}
}

// Text is that of the page.
func (b *Tab) Text() (text string) {
	b.t.Helper()
	b.Value("document.body.innerText", &text)
	return text
}

// Click clicks on an element, which a CSS selector finds.
func (b *Tab) Click(selector string) {
	b.t.Helper()
	b.Do(chromedp.Click(chromedp.CSS(selector)))
}

// Keys types on the keyboard, wherever the focus is.
func (b *Tab) Keys(keys string) {
	b.t.Helper()
	b.Do(chromedp.KeyEvent(keys))
}

// Scheme has the page be light or dark, as a person who prefers that sees it.
func (b *Tab) Scheme(scheme string) {
	b.t.Helper()
	b.Do(func(ctx context.Context, target *chromedp.Target) (chromedp.Void, error) {
		_, err := cdp.Call(ctx, target, emulation.SetEmulatedMedia, emulation.SetEmulatedMediaParams{Features: []*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: scheme}}})
		return chromedp.Void{}, err
	})
}
