// Package cli is the command-line client. It talks to the service's API and to
// nothing else.
package cli

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"golang.org/x/term"

	"oakenlatch/client"
	"oakenlatch/wire"
)

// The exit statuses.
const (
	Done        = 0
	AnswerNo    = 1 // a finding, a conflict, nothing to commit
	WrongUse    = 2
	Refused     = 3
	Unreachable = 4 // the service, or a device
	WentBack    = 5
	Interrupted = 130 // by the person, Ctrl-C
	Unvouched   = 6   // consistent in itself, but nobody outside vouches for it
)

// Main runs the client as a process does.
func Main(ctx context.Context, args []string) int {
	a := &app{
		in: os.Stdin, out: &screen{os.Stdout}, err: &screen{os.Stderr}, getenv: os.Getenv,
		tty: term.IsTerminal(int(os.Stdout.Fd())) && os.Getenv("TERM") != "dumb",
		ask: term.IsTerminal(int(os.Stdin.Fd())),
	}
	return a.run(ctx, args)
}

// app is one run of the client.
type app struct {
	in       io.Reader
	out, err io.Writer
	getenv   func(string) string
	tty      bool // out is a terminal that has styles and can go back
	ask      bool // in is a terminal

	server, token, pin string
	asJSON             bool
	asked              *client.Client // that api gave last, for the server, token and pin beside it
	askedAs            [3]string
	stale              bool // it was said that what is shown may not be as it is
	ctx                context.Context
}

// command is one verb.
type command struct {
	name     string // "put", "device add"
	args     string // as they are told: "CHANGE DEVICE PATH [VALUE]"
	min, max int    // how many of them
	summary  string
	example  string // lines

	// setup adds the flags and gives what runs with the arguments.
	setup func(*app, *flag.FlagSet) func(args []string) error
}

// exit is an error that carries an exit status; a nil Err says nothing more.
type exit struct {
	status int
	err    error
}

func (e *exit) Error() string {
	if e.err == nil {
		return ""
	}
	return e.err.Error()
}

func (e *exit) Unwrap() error { return e.err }

func wrongUse(format string, args ...any) error {
	return &exit{WrongUse, fmt.Errorf(format, args...)}
}

func (a *app) printf(format string, args ...any) { _, _ = fmt.Fprintf(a.out, format, args...) }

func (a *app) run(ctx context.Context, args []string) int {
	a.ctx = ctx
	err := plainly(a.dispatch(args))
	if err == nil || errors.Is(err, flag.ErrHelp) {
		return Done
	}
	if ctx.Err() != nil {
		_, _ = fmt.Fprintln(a.err, "latch: interrupted; what the service was asked to do goes on there")
		return Interrupted
	}
	var p *wire.Problem
	refused := errors.As(err, &p)
	switch text := err.Error(); {
	case refused && a.asJSON:
		_ = a.json(a.err, p)
	case refused: // it may hold what a device said
		_, _ = fmt.Fprintln(a.err, "latch:", strings.Replace(text, p.Error(), told(p), 1))
	case text != "" && (a.asJSON || slices.Contains(args, "--json")): // also where it went wrong before that was read
		_ = a.json(a.err, wire.Problem{
			Type: wire.ProblemPrefix + statusNames[statusOf(err)], Title: "latch", Detail: text,
		})
	case text != "":
		_, _ = fmt.Fprintln(a.err, "latch:", text)
	}
	return statusOf(err)
}

// statusNames are the types of problems that the client itself tells of, by its exit status.
var statusNames = map[int]string{
	AnswerNo: "answer-no", WrongUse: "invalid", Refused: "refused", Unreachable: "unreachable", WentBack: "reverted",
}

// statusOf gives the exit status an error stands for.
func statusOf(err error) int {
	var e *exit
	var p *wire.Problem
	switch {
	case errors.As(err, &e):
		return e.status
	case errors.As(err, &p):
		switch strings.TrimPrefix(p.Type, wire.ProblemPrefix) {
		case "unreachable":
			return Unreachable
		case "invalid", "not-found", "too-large":
			return WrongUse
		}
		return Refused
	}
	return Unreachable
}

func (a *app) dispatch(args []string) error {
	global := flag.NewFlagSet("latch", flag.ContinueOnError)
	global.SetOutput(io.Discard)
	version := global.Bool("version", false, "which release this is")
	a.globals(global)
	if err := global.Parse(args); err != nil {
		if errors.Is(err, flag.ErrHelp) {
			a.overview()
			return err
		}
		return wrongUse("%v; see latch --help", err)
	}
	if *version {
		a.printf("latch %s\n", wire.VersionText())
		return nil
	}
	args = global.Args()
	if len(args) == 0 || args[0] == "help" {
		if len(args) == 2 && args[1] == "--man" {
			_ = a.exact(manual().Roff())
			return nil
		}
		if len(args) > 1 {
			return a.helpAbout(args[1:])
		}
		a.overview()
		if len(args) == 0 {
			return &exit{status: WrongUse}
		}
		return nil
	}
	cmd, rest := find(args)
	if cmd == nil {
		return a.noCommand(args)
	}
	return a.execute(cmd, rest)
}

func (a *app) globals(fs *flag.FlagSet) {
	fs.StringVar(
		&a.server, "server", a.server, "address of the service, e.g. http://127.0.0.1:8640 (or OAKEN_LATCH_SERVER)",
	)
	fs.BoolVar(&a.asJSON, "json", a.asJSON, "answer in JSON")
}

// find gives the command that the first one or two words name.
func find(args []string) (*command, []string) {
	for _, words := range []int{2, 1} {
		if len(args) < words {
			continue
		}
		name := strings.Join(args[:words], " ")
		for i := range commands() {
			if c := commands()[i]; c.name == name {
				return &c, args[words:]
			}
		}
	}
	return nil, nil
}

func (a *app) execute(c *command, args []string) error {
	fs := flag.NewFlagSet("latch "+c.name, flag.ContinueOnError)
	fs.SetOutput(io.Discard)
	a.globals(fs)
	do := c.setup(a, fs)
	pos, err := interspersed(fs, args)
	if errors.Is(err, flag.ErrHelp) {
		a.help(c, fs)
		return err
	}
	if err != nil {
		return wrongUse("%v%s; see latch %s --help", err, nearestFlag(fs, err), c.name)
	}
	if len(pos) < c.min || len(pos) > c.max {
		return wrongUse("latch %s takes: %s; see latch %s --help", c.name, orNothing(c.args), c.name)
	}
	a.settings()
	return do(pos)
}

func orNothing(args string) string {
	if args == "" {
		return "no arguments"
	}
	return args
}

// interspersed parses flags wherever they stand among the arguments. What
// follows -- is taken as it is, and so is a negative number.
func interspersed(fs *flag.FlagSet, args []string) ([]string, error) {
	var pos, tail []string
	for i, arg := range args {
		if arg == "--" {
			args, tail = args[:i], args[i+1:]
			break
		}
	}
	for len(args) > 0 {
		if len(args[0]) < 2 || args[0][0] != '-' || args[0][1] >= '0' && args[0][1] <= '9' {
			pos, args = append(pos, args[0]), args[1:]
			continue
		}
		if err := fs.Parse(args); err != nil {
			return nil, err
		}
		args = fs.Args()
	}
	return append(pos, tail...), nil
}

// manual is the manual page: the help of all commands.
func manual() wire.Manual {
	m := wire.Manual{
		Name: "latch", Section: "1",
		Summary:  "stage changes for network devices, see what they do, commit them on hold",
		Synopsis: []string{"latch COMMAND [ARGUMENT]... [--FLAG]..."},
		Parts:    []wire.ManualPart{{Title: "ALL COMMANDS", Text: about}},
	}
	for _, c := range commands() {
		a := &app{}
		fs := flag.NewFlagSet("latch "+c.name, flag.ContinueOnError)
		c.setup(a, fs)
		one := wire.ManualCommand{
			Usage: strings.TrimSpace("latch " + c.name + " " + c.args), Summary: c.summary, Example: c.example,
		}
		fs.VisitAll(func(f *flag.Flag) { one.Flags = append(one.Flags, [2]string{"--" + f.Name, f.Usage}) })
		m.Commands = append(m.Commands, one)
	}
	return m
}

func (a *app) json(w io.Writer, v any) error {
	enc := json.NewEncoder(w)
	enc.SetIndent("", "  ")
	enc.SetEscapeHTML(false)
	return enc.Encode(v)
}

// show answers in JSON where that was asked for, otherwise as text writes it.
func (a *app) show(v any, text func()) error {
	if a.asJSON {
		return a.json(a.exactly(), v)
	}
	text()
	return nil
}
