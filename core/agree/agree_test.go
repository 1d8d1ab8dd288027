package agree_test

import (
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/agree"
)

// act is something that somebody does, as the walk has it.
type act struct{ kind, who string }

// TestWalk does all orders of a handful of acts by three persons, up to seven in a row, and judges by
// the story itself, not by what is remembered of it: where a commit is let through that needs one
// person's approval, somebody agreed after the last change of it who never had a hand in it, is
// there still and may still agree; so that no one person can have brought it there.
func TestWalk(t *testing.T) {
	people := []string{"mara", "joss", "wren"}
	var acts []act
	for _, who := range people {
		for _, kind := range []string{"stage", "unstage", "agree"} {
			acts = append(acts, act{kind, who})
		}
	}
	acts = append(acts, act{"withdraw", "joss"}, act{"close", "joss"}, act{"demote", "joss"}, act{"close", "wren"})
	walked, let := 0, 0
	var walk func(story []act)
	walk = func(story []act) {
		walked++
		f := facts(story)
		if f.Missing() == 0 {
			let++
			require.True(t, judge(story), "%v", story)
		} else {
			require.False(t, judge(story), "%v: it is held up for nothing", story)
		}
		if len(story) == 5 {
			return
		}
		for _, a := range acts {
			walk(append(slices.Clone(story), a))
		}
	}
	walk([]act{{"stage", "mara"}})
	assert.Greater(t, let, 100)
	fmt.Printf("tell: %d stories of two persons walked, %d let through\n", walked, let)
}

// facts are what is remembered of a story.
func facts(story []act) agree.Facts {
	f := agree.Facts{Needed: 1, Digest: "0"}
	gone := map[string]bool{}
	for i, a := range story {
		switch a.kind {
		case "stage", "unstage":
			f.Digest = fmt.Sprint(i + 1)
			f.Workers = append(f.Workers, a.who)
		case "agree":
			f.Agreed = slices.DeleteFunc(f.Agreed, func(x agree.Agreement) bool { return x.Who == a.who })
			f.Agreed = append(f.Agreed, agree.Agreement{Who: a.who, Digest: f.Digest})
		case "withdraw":
			f.Agreed = slices.DeleteFunc(f.Agreed, func(x agree.Agreement) bool { return x.Who == a.who })
		case "close", "demote":
			gone[a.who] = true
		}
	}
	f.May = func(who string) bool { return !gone[who] }
	return f
}

// judge reads the story backwards.
func judge(story []act) bool {
	last := 0
	for i, a := range story {
		if a.kind == "stage" || a.kind == "unstage" {
			last = i
		}
	}
	for i, a := range story {
		if a.kind != "agree" || i < last {
			continue
		}
		well := true
		for k, b := range story {
			if b.who == a.who && (b.kind == "stage" || b.kind == "unstage" || b.kind == "close" || b.kind == "demote" ||
				b.kind == "withdraw" && k > i) {
				well = false
			}
		}
		if well {
			return true
		}
	}
	return false
}

// Two who are needed are two persons, however often one of them says it.
func TestTwo(t *testing.T) {
	f := agree.Facts{
		Needed: 2, Digest: "a", Workers: []string{"mara"}, May: func(string) bool { return true },
		Agreed: []agree.Agreement{
			{Who: "joss", Digest: "a"}, {Who: "joss", Digest: "a"}, {Who: "mara", Digest: "a"},
			{Who: "wren", Digest: "b"},
		},
	}
	assert.Equal(t, 1, f.Missing())
	f.Agreed = append(f.Agreed, agree.Agreement{Who: "wren", Digest: "a"})
	assert.Zero(t, f.Missing())
}

func TestWorks(t *testing.T) {
	for action, works := range map[string]bool{
		"edit.put": true, "edit.drop": true, "edit.load": true, "part.decide": true, "part.rebase": true,
		"expect.add": true, "change.open": true, "outside.push-back": true, "approval.give": false,
		"commit.start": false, "config.changed": false, "change.confirmed": false, "emergency.review": false,
		"change.share": false, "device.seen": false,
	} {
		assert.Equal(t, works, agree.Works(action), action)
	}
}
