// Package browser drives Debian's Chromium for the tests and the pictures.
package browser

import (
	"context"
	"errors"
	"fmt"
	"os"
	"time"

	"github.com/chromedp/chromedp"
)

// Path is where Debian puts Chromium.
const Path = "/usr/bin/chromium"

// ErrMissing is given where Chromium is not installed.
var ErrMissing = errors.New(Path + " is not installed; make test installs it")

// Open starts a headless Chromium of its own, 1280 by 800. Errors that pages
// log or throw go to complain.
func Open(parent context.Context, complain func(string)) (context.Context, context.CancelFunc, error) {
	if _, err := os.Stat(Path); err != nil {
		return nil, nil, ErrMissing
	}
	dir, err := os.MkdirTemp("", "chromium-")
	if err != nil {
		return nil, nil, err
	}
	opts := append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.ExecPath(Path), chromedp.NoSandbox, chromedp.DisableGPU, chromedp.WindowSize(1280, 800),
		chromedp.UserDataDir(dir),
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-background-networking", true),
		chromedp.Flag(
			"disable-component-update", true,
		), chromedp.Flag("disable-sync", true), chromedp.Flag("no-first-run", true),
		// What moves under a click is missed by it.
		chromedp.Flag("force-prefers-reduced-motion", true),
	)
	alloc, cancelAlloc := chromedp.NewExecAllocator(parent, opts...)
	ctx, cancel := chromedp.NewContext(alloc)
	stop := func() {
		cancel()
		cancelAlloc()
		_ = os.RemoveAll(dir)
	}
	messages := chromedp.Console(ctx)
	if err := chromedp.Do(ctx, chromedp.EmulateViewport(1280, 800)); err != nil {
		stop()
		return nil, nil, err
	}
	go func() {
		for m, err := range messages {
			if err != nil {
				return
			}
			if m.IsException() || m.Type == "error" && (m.Source == "" || m.Source == "security") {
				complain(m.String())
			}
		}
	}()
	return ctx, stop, nil
}

// Step is one thing done in the browser.
type Step = chromedp.Action[chromedp.Void]

func search(format string, args ...any) chromedp.Search {
	return chromedp.Search(fmt.Sprintf(format, args...))
}

// Text finds the innermost element of a kind that shows a text, and Button,
// Field and Row do so for what people press, fill in and read.
func Text(kind, text string) chromedp.Search {
	return search(`//body//%s[contains(normalize-space(.), %q)]`, kind, text) // the title of the window is not meant
}

// Button finds a button by its words.
func Button(text string) chromedp.Search { return Text("button", text) }

// Field finds an input by its label.
func Field(label string) chromedp.Search {
	return search(
		`//input[@aria-label=%[1]q] | //textarea[@aria-label=%[1]q] | //input[@id=//label[normalize-space(.)=%[1]q]/@for]`,
		label,
	)
}

// Type writes into a field as a person does. Unlike the driver's own way of
// sending keys it reads none of the field's attributes, which may change while
// it is written in.
func Type(label, text string) Step {
	return chromedp.Steps(chromedp.Click(Field(label)), chromedp.KeyEvent(text))
}

// Do runs steps with a limit that says which step it was that hung.
func Do(ctx context.Context, what string, steps ...Step) error {
	for i, s := range steps {
		sctx, cancel := context.WithTimeout(ctx, time.Minute)
		err := chromedp.Do(sctx, s)
		cancel()
		if err != nil {
			return fmt.Errorf("%s, step %d: %w", what, i+1, err)
		}
	}
	return nil
}

// SignIn opens a page of the console as someone.
func SignIn(ctx context.Context, server, page, account, password string) error {
	return Do(ctx, "sign in as "+account,
		chromedp.Navigate(server+page),
		chromedp.WaitVisible(Field("Account")),
		chromedp.SendKeys(Field("Account"), account),
		chromedp.SendKeys(Field("Password"), password),
		chromedp.Click(Button("Sign in")),
		chromedp.WaitVisible(chromedp.Search(`//nav`)),
		// Read by whoever it is about: the client is signed in, too.
		chromedp.Func(func(ctx context.Context, t *chromedp.Target) error {
			_, err := chromedp.Evaluate[bool](
				`[...document.querySelectorAll("button")].filter((b) => b.textContent === "It is me").map((b) => b.click()).length >= 0`,
			)(ctx, t)
			return err
		}),
	)
}

// Pick chooses an option of a select that can be searched, by the keyboard.
func Pick(label, option string) Step {
	field := search(`//input[@aria-label=%q]`, label)
	return chromedp.Steps(
		chromedp.Click(field), chromedp.KeyEvent(option),
		chromedp.WaitVisible(search(`//div[contains(@class,"ant-select-item-option") and @title=%q]`, option)),
		chromedp.KeyEvent("\r"),
		chromedp.WaitVisible(search(`//*[@title=%q and not(contains(@class,"ant-select-item-option"))]`, option)),
	)
}
