package cli

import (
	"flag"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"oakenlatch/client"
	"oakenlatch/core/clip"
	"oakenlatch/core/ledger"
	"oakenlatch/wire"
)

// line gives the words of a command line as one line to search by, behind a
// line that is kept under a name.
func (a *app) searchLine(saved string, words []string) (string, error) {
	line := strings.Join(words, " ")
	if saved == "" {
		return line, nil
	}
	list, err := a.api().ListSearches(a.ctx)
	if err != nil {
		return "", err
	}
	for _, s := range list { // one's own of that name comes first
		if s.Name == saved {
			return strings.TrimSpace(s.Line + " " + line), nil
		}
	}
	return "", &exit{Refused, fmt.Errorf("no search is saved as %q; list them with: latch audit saved", saved)}
}

func auditList(a *app, fs *flag.FlagSet) func([]string) error {
	saved := fs.String("saved", "", "what this name stands for")
	before := fs.Int64("before", 0, "only entries before this one, for the next page")
	limit := fs.Int("limit", 40, "at most so many, up to 1000")
	oldest := fs.Bool("oldest", false, "oldest first")
	return func(words []string) error {
		line, err := a.searchLine(*saved, words)
		if err != nil {
			return err
		}
		if *before != 0 && *oldest {
			return wrongUse("--before is for the newest first")
		}
		if *limit < 1 {
			return wrongUse("--limit is from 1 to 1000")
		}
		page, err := a.api().SearchAudit(a.ctx, client.SearchAuditQuery{
			Search: line, Limit: int64(*limit), Before: *before, Oldest: *oldest,
		})
		if err != nil {
			return a.pointed(line, err)
		}
		return a.show(page, func() {
			rows := make([][]string, len(page.Entries))
			for i, e := range page.Entries {
				about := e.Device
				if e.Change != 0 {
					about = fmt.Sprintf("change %d %s", e.Change, e.Device)
				}
				what := e.Action
				if e.Outcome != ledger.Done {
					what += ", " + e.Outcome.String()
				}
				rows[i] = []string{
					fmt.Sprint(e.Seq), when(e.At), e.Actor, what, about,
					clip.Line(whatText(e), 90),
				}
			}
			a.table([]string{"ENTRY", "AT", "WHO", "WHAT", "ABOUT", "DETAIL"}, rows)
			switch {
			case len(page.Entries) == 0:
				a.printf("Nothing was found.\n")
			case page.Next != 0 && !*oldest:
				a.printf("Older ones: latch audit --before %d%s\n", page.Next, shellWord(line))
			case page.Next != 0:
				a.printf("There are more: narrow it with since: or entry:%d..\n", page.Next)
			}
		})
	}
}

// shellWord writes a line as one argument, with a space in front; nothing for
// none.
func shellWord(line string) string {
	if line == "" {
		return ""
	}
	return " '" + strings.ReplaceAll(line, "'", `'\''`) + "'"
}

// pointed shows under a line where it goes wrong.
func (a *app) pointed(line string, err error) error {
	p, ok := err.(*wire.Problem)
	if !ok || a.asJSON || len(line) > 200 {
		return err
	}
	_, rest, found := strings.Cut(p.Detail, "goes wrong at column ")
	var column int
	if _, serr := fmt.Sscanf(rest, "%d", &column); !found || serr != nil {
		return err
	}
	_, _ = fmt.Fprintf(a.err, "  %s\n  %s^\n", line, strings.Repeat(" ", column-1))
	return err
}

func whatText(e ledger.Entry) string {
	switch {
	case e.Path == "" && e.Before == "" && e.After == "":
		return e.Note
	case e.Before == "" && e.After == "":
		return e.Path + " " + e.Note
	case e.Before == "":
		return e.Path + " + " + e.After
	case e.After == "":
		return e.Path + " − " + e.Before
	}
	return e.Path + " " + e.Before + " → " + e.After
}

func auditShow(a *app, _ *flag.FlagSet) func([]string) error {
	return func(args []string) error {
		entry, err := numbered("an entry", args[0], "latch audit")
		if err != nil {
			return err
		}
		e, err := a.api().GetEntry(a.ctx, entry)
		if err != nil {
			return err
		}
		return a.show(e, func() {
			change := ""
			if e.Change != 0 {
				change = fmt.Sprintf("%d %s", e.Change, e.Ticket)
			}
			from := strings.TrimSpace(e.Way + " " + e.Address)
			if e.Session != "" {
				from += ", session " + e.Session
			}
			for _, row := range [][2]string{
				{"entry", fmt.Sprint(e.Seq)}, {"at", when(e.At)}, {"who", e.Actor}, {"from", from}, {"what", e.Action},
				{"outcome", e.Outcome.String()}, {"device", e.Device}, {"change", change}, {"path", e.Path},
				{"before", e.Before},
				{"after", e.After}, {"note", e.Note}, {"chained to", e.Prev}, {"digest", e.Hash},
			} {
				if row[1] != "" {
					a.printf("%-11s %s\n", row[0], strings.ReplaceAll(row[1], "\n", "\n            "))
				}
			}
		})
	}
}

func auditExport(a *app, fs *flag.FlagSet) func([]string) error {
	saved := fs.String("saved", "", "what this name stands for")
	form := fs.String("format", "csv", "csv (RFC 4180) or jsonl (JSON Lines)")
	return func(args []string) error {
		line, err := a.searchLine(*saved, args[1:])
		if err != nil {
			return err
		}
		res, err := a.api().ExportAudit(a.ctx, client.ExportAuditQuery{Search: line, Format: *form})
		if err != nil {
			return a.pointed(line, err)
		}
		defer func() { _ = res.Body.Close() }()
		if args[0] == "-" {
			_, err = io.Copy(a.exactly(), res.Body)
			return err
		}
		n, err := a.keepFile(args[0], res.Body)
		if err == nil {
			a.printf("%s: %d bytes.\n", args[0], n)
		}
		return err
	}
}

func auditSave(a *app, fs *flag.FlagSet) func([]string) error {
	shared := fs.Bool("shared", false, "for others too")
	return func(args []string) error {
		in := wire.NewSearch{Line: strings.Join(args[1:], " "), Shared: *shared}
		out, err := a.api().SetSearch(a.ctx, args[0], in)
		if err != nil {
			return a.pointed(in.Line, err)
		}
		return a.show(out, func() { a.printf("Saved. Use it: latch audit --saved%s\n", shellWord(args[0])) })
	}
}

func auditSaved(a *app, _ *flag.FlagSet) func([]string) error {
	return func([]string) error {
		list, err := a.api().ListSearches(a.ctx)
		if err != nil {
			return err
		}
		return a.show(list, func() {
			rows := make([][]string, len(list))
			for i, s := range list {
				rows[i] = []string{s.Name, s.Owner + map[bool]string{true: ", for all"}[s.Shared], s.Line}
			}
			a.table([]string{"NAME", "WHOSE", "LINE"}, rows)
			if len(list) == 0 {
				a.printf("None is saved. Save one: latch audit save NAME LINE\n")
			}
		})
	}
}

func auditForget(a *app, _ *flag.FlagSet) func([]string) error {
	return func(args []string) error {
		if err := a.api().DropSearch(a.ctx, args[0]); err != nil {
			return err
		}
		a.printf("Forgotten.\n")
		return nil
	}
}

// keepFile writes what comes to a file, which is there only once all of it has
// come.
func (a *app) keepFile(name string, from io.Reader) (int64, error) {
	part, err := os.CreateTemp(filepath.Dir(name), ".latch-")
	if err != nil {
		return 0, wrongUse("%v", err)
	}
	defer func() { _ = os.Remove(part.Name()) }()
	n, err := io.Copy(part, &counting{a: a, r: from})
	if err == nil {
		err = part.Sync()
	}
	if cerr := part.Close(); err == nil {
		err = cerr
	}
	if err != nil {
		return n, fmt.Errorf("it broke off after %d bytes; nothing was written: %w", n, err)
	}
	return n, os.Rename(part.Name(), name)
}
