// Package browser drives headless Chromium, for tests and for the pictures in
// the documents. The program itself does not use it.
package browser

import (
	"context"
	"fmt"
	"os"
	"os/exec"

	"github.com/chromedp/chromedp"
)

// Width and height of the window, in pixels.
const (
	Width  = 1280
	Height = 800
)

// Open starts a browser with an empty profile; cancel ends it.
func Open(ctx context.Context) (context.Context, context.CancelFunc, error) {
	program := ""
	for _, name := range []string{"chromium", "chromium-browser", "google-chrome"} {
		if path, err := exec.LookPath(name); err == nil {
			program = path
			break
		}
	}
	if program == "" {
		return nil, nil, fmt.Errorf("no Chromium is installed: run make tools")
	}
	profile, err := os.MkdirTemp("", "urbankeep-browser-")
	if err != nil {
		return nil, nil, err
	}
	options := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(program), chromedp.UserDataDir(profile), chromedp.NoSandbox,
		chromedp.DisableGPU, chromedp.WindowSize(Width, Height), chromedp.Flag("disable-quic", true), chromedp.Flag("no-first-run", true),
		chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true),
		chromedp.Flag("force-prefers-reduced-motion", true)) // what slides in is there at once
	allocated, stopAllocator := chromedp.NewExecAllocator(ctx, options...)
	tab, stopTab := chromedp.NewContext(allocated)
	cancel := func() {
		stopTab()
		stopAllocator()
		os.RemoveAll(profile)
	}
	if err := chromedp.Do(tab, chromedp.EmulateViewport(Width, Height)); err != nil {
		cancel()
		return nil, nil, fmt.Errorf("start Chromium: %w", err)
	}
	return tab, cancel, nil
}
