package cli

import (
	"io"
	"os"
	"os/exec"
	"strings"

	"golang.org/x/term"
)

// page writes a text to the terminal, through a pager where it is longer than
// the terminal is high. PAGER names another one, and none where it is cat or
// empty.
func (a *app) page(text string) error {
	pager := a.getenv("PAGER")
	if pager == "" {
		pager = "less -RFX"
	}
	f := a.terminal()
	high := 0
	if f != nil {
		if _, h, err := term.GetSize(int(f.Fd())); err == nil {
			high = h
		}
	}
	words := strings.Fields(pager)
	program, err := exec.LookPath(words[0])
	if high == 0 || strings.Count(text, "\n") < high || words[0] == "cat" || err != nil {
		_, err := io.WriteString(a.out, text)
		return err
	}
	cmd := exec.CommandContext(a.ctx, program, words[1:]...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = strings.NewReader(tamed(text)), f, raw(a.err)
	if strings.HasSuffix(words[0], "less") && len(words) == 1 {
		cmd.Env = append(os.Environ(), "LESS=RFX")
	}
	_ = cmd.Run() // one that is left early is no trouble
	return nil
}

// width is how many columns there are to write in.
func (a *app) width() int {
	if f := a.terminal(); f != nil {
		if w, _, err := term.GetSize(int(f.Fd())); err == nil && w >= 40 {
			return w
		}
	}
	return 120
}
