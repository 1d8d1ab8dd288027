package cli

import (
	"flag"
	"fmt"
	"net/url"

	"oakenlatch/wire"
)

func auditList(a *app, fs *flag.FlagSet) func([]string) error {
	device := fs.String("device", "", "only about this device")
	change := fs.Int64("change", 0, "only about this change")
	actor := fs.String("actor", "", "only by this account")
	before := fs.Int64("before", 0, "only entries before this one, for the next page")
	limit := fs.Int("limit", 40, "at most so many, up to 1000")
	return func([]string) error {
		q := url.Values{"limit": {fmt.Sprint(*limit)}}
		if *device != "" {
			q.Set("device", *device)
		}
		if *change != 0 {
			q.Set("change", fmt.Sprint(*change))
		}
		if *actor != "" {
			q.Set("actor", *actor)
		}
		if *before != 0 {
			q.Set("before", fmt.Sprint(*before))
		}
		var page wire.Audit
		if err := a.call("GET", "/audit?"+q.Encode(), nil, &page); err != nil {
			return err
		}
		return a.show(page, func() {
			rows := make([][]string, len(page.Entries))
			for i, e := range page.Entries {
				about := e.Device
				if e.Change != 0 {
					about = fmt.Sprintf("change %d %s", e.Change, e.Device)
				}
				rows[i] = []string{fmt.Sprint(e.Seq), when(e.At), e.Actor, e.Action, about, clip(whatText(e.Path, e.Before, e.After, e.Note), 90)}
			}
			a.table([]string{"ENTRY", "AT", "WHO", "WHAT", "ABOUT", "DETAIL"}, rows)
			if page.Next != 0 {
				a.printf("Older ones: latch audit --before %d\n", page.Next)
			}
		})
	}
}

func whatText(path, before, after, note string) string {
	switch {
	case path == "" && before == "" && after == "":
		return note
	case before == "" && after == "":
		return path + " " + note
	case before == "":
		return path + " + " + after
	case after == "":
		return path + " − " + before
	}
	return path + " " + before + " → " + after
}

func auditVerify(a *app, _ *flag.FlagSet) func([]string) error {
	return func([]string) error {
		var v wire.Verified
		if err := a.call("GET", "/audit/verify", nil, &v); err != nil {
			return err
		}
		if err := a.show(v, func() {
			if v.Intact {
				a.printf("The ledger is intact: %d entries, each chained to the one before.\n", v.Entries)
				return
			}
			a.printf("%s %s (%d entries before it hold)\n", a.paint(alarm, "The ledger was tampered with:"), v.Broken, v.Entries)
		}); err != nil {
			return err
		}
		if !v.Intact {
			return &exit{status: AnswerNo}
		}
		return nil
	}
}
