package cli

import (
	"flag"
	"fmt"
	"strconv"
	"strings"

	"oakenlatch/client"
	"oakenlatch/wire"
)

// approval tells who else has to agree to a change, and who has.
func (a *app) approval(p wire.Preview) {
	x := p.Approval
	if x == nil {
		return
	}
	a.printf("\n")
	switch {
	case x.Needed == 0:
		a.printf("Others are asked to agree to it; no rule needs that.\n")
	case x.Missing == 0:
		a.printf("%s: as many agreed as it needs.\n", a.paint("38;5;37", "Agreed to"))
	default:
		a.printf(
			"%s: it needs %s who did not work on it; %s missing.\n", a.paint(alarm, "To be approved"),
			count(x.Needed, "person", "persons"), count(x.Missing, "is", "are"),
		)
	}
	for _, r := range x.Rules {
		a.printf("  rule %d: %s%s\n", r.Number, ruleText(r), noteText(r.Note))
	}
	for _, g := range x.Have {
		a.printf("  %s agreed %s%s\n", g.Actor, when(g.At), noteText(g.Note))
	}
	for _, g := range x.Fallen {
		a.printf("  %s agreed %s, to preview %s: no longer valid\n", g.Actor, when(g.At), g.Digest)
	}
	if x.AskedBy != "" {
		a.printf("  asked for by %s %s%s\n", x.AskedBy, when(x.AskedAt), noteText(x.AskedNote))
	}
}

func noteText(note string) string {
	if note == "" {
		return ""
	}
	return ": " + note
}

func ruleText(r wire.ApprovalRule) string {
	text := r.Scope
	if text == "" {
		text = "all devices"
	}
	return strings.TrimSpace(text + " " + r.Path)
}

func askFor(a *app, _ *flag.FlagSet) func([]string) error {
	return func(args []string) error {
		n, err := changeNumber(args[0])
		if err != nil {
			return err
		}
		if err := a.api().AskForApproval(a.ctx, n, wire.NewNote{Text: strings.Join(args[1:], " ")}); err != nil {
			return err
		}
		a.printf("Those who may approve change %s see it now. They agree with: latch approve %s\n", args[0], args[0])
		return nil
	}
}

func approve(a *app, fs *flag.FlagSet) func([]string) error {
	digest := fs.String("preview", "", "the preview that is agreed to; asked for, as it is now, if left out")
	note := fs.String("note", "", "a word to go with it")
	return func(args []string) error {
		n, err := changeNumber(args[0])
		if err != nil {
			return err
		}
		if *digest == "" {
			p, err := a.api().PreviewChange(a.ctx, n, client.PreviewChangeQuery{})
			if err != nil {
				return err
			}
			if !a.asJSON {
				(&previewText{app: a}).preview(p)
			}
			if !a.agree(fmt.Sprintf("\nAgree to change %s as preview %s shows it?", args[0], p.Digest)) {
				return &exit{
					Refused,
					fmt.Errorf(
						"nothing was agreed to; look at it with latch preview %s, then: latch approve %s --preview %s",
						args[0], args[0], p.Digest,
					),
				}
			}
			*digest = p.Digest
		}
		if err := a.api().ApproveChange(a.ctx, n, wire.Approve{Digest: *digest, Note: *note}); err != nil {
			return err
		}
		a.printf("Agreed to change %s as preview %s shows it, and to nothing else.\n", args[0], *digest)
		return nil
	}
}

func unapprove(a *app, _ *flag.FlagSet) func([]string) error {
	return func(args []string) error {
		n, err := changeNumber(args[0])
		if err != nil {
			return err
		}
		if err := a.api().WithdrawApproval(a.ctx, n); err != nil {
			return err
		}
		a.printf("Your approval of change %s is withdrawn.\n", args[0])
		return nil
	}
}

func ruleList(a *app, _ *flag.FlagSet) func([]string) error {
	return func([]string) error {
		list, err := a.api().ListRules(a.ctx)
		if err != nil {
			return err
		}
		return a.show(list, func() {
			rows := make([][]string, len(list))
			for i, r := range list {
				rows[i] = []string{
					strconv.FormatInt(r.Number, 10), ruleText(r), count(r.Needed, "person", "persons"),
					map[bool]string{true: "allowed, with a reason", false: "not allowed"}[r.Emergency], r.Note,
				}
			}
			a.table([]string{"RULE", "CHANGES OF", "NEED", "EMERGENCIES", "NOTE"}, rows)
			if len(list) == 0 {
				a.printf("No change needs the approval of others.\n")
			}
			for _, r := range list {
				a.idle(r)
			}
		})
	}
}

// idle says that a rule falls on nothing.
func (a *app) idle(r wire.ApprovalRule) {
	if r.Idle != "" {
		a.printf(
			"%s rule %d (%s) keeps nothing back now: %s.\n", a.paint(alarm, "!"), r.Number, ruleText(r), r.Idle,
		)
	}
}

func ruleAdd(a *app, fs *flag.FlagSet) func([]string) error {
	scope := fs.String(
		"on", "",
		"devices: site=NAME, role=NAME, tag=NAME or device=NAME; or administration: dropping rules, and who may do "+
			"what",
	)
	all := fs.Bool("all", false, "instead of --on: all devices, those to come too")
	path := fs.String("path", "", "only where a change touches this path or below")
	needed := fs.Int("persons", 1, "how many have to agree")
	emergency := fs.Bool("emergency", false, "a commit without them is possible, for a reason")
	note := fs.String("note", "", "why")
	return func([]string) error {
		if *all == (*scope != "") {
			return wrongUse("whose changes? Give --on tag=NAME and the like, or --all for all devices")
		}
		r, err := a.api().AddRule(
			a.ctx,
			wire.NewRule{Scope: *scope, Path: *path, Needed: *needed, Emergency: *emergency, Note: *note},
		)
		if err != nil {
			return err
		}
		return a.show(r, func() {
			if r.Scope == "administration" {
				a.printf(
					"Rule %d: dropping rules, saying who may do what, and giving others a password need %s beside "+
						"who asks.\n",
					r.Number, count(r.Needed, "person", "persons"),
				)
				return
			}
			a.printf(
				"Rule %d: a change of %s needs %s who did not work on it.\n", r.Number, ruleText(r),
				count(r.Needed, "person", "persons"),
			)
			a.idle(r)
		})
	}
}

func ruleDrop(a *app, _ *flag.FlagSet) func([]string) error {
	return func(args []string) error {
		rule, err := numbered("a rule", args[0], "latch rule list")
		if err != nil {
			return err
		}
		out, err := a.api().DropRule(a.ctx, rule)
		if err != nil {
			return err
		}
		if a.waits(out.Proposal) {
			return nil
		}
		a.printf("Rule %s is gone.\n", args[0])
		return nil
	}
}

// waits tells that something is not done yet: others have to agree.
func (a *app) waits(p *wire.Proposal) bool {
	if p == nil {
		return false
	}
	a.printf(
		"It is not done yet: a rule keeps it for others to agree to.\nProposal %d: %s. %s who may administer "+
			"everything agree with: latch proposal agree %d\n",
		p.Number, p.Says, count(p.Missing, "other person", "other persons"), p.Number,
	)
	return true
}

func proposalList(a *app, _ *flag.FlagSet) func([]string) error {
	return func([]string) error {
		list, err := a.api().ListProposals(a.ctx)
		if err != nil {
			return err
		}
		return a.show(list, func() {
			rows := make([][]string, len(list))
			for i, p := range list {
				rows[i] = []string{
					strconv.FormatInt(p.Number, 10), when(p.At), p.Actor, p.Says,
					strings.Join(p.Agreed, ", "), strconv.Itoa(p.Missing),
				}
			}
			a.table([]string{"PROPOSAL", "AT", "BY", "WHAT", "AGREED", "MISSING"}, rows)
			if len(list) == 0 {
				a.printf("Nothing waits for the approval of who administers.\n")
			}
		})
	}
}

func proposalAgree(a *app, fs *flag.FlagSet) func([]string) error {
	yes := fs.Bool("yes", false, "do not ask")
	return func(args []string) error {
		list, err := a.api().ListProposals(a.ctx)
		if err != nil {
			return err
		}
		for _, p := range list {
			if strconv.FormatInt(p.Number, 10) == args[0] && !*yes && !a.agree(
				fmt.Sprintf("%s proposes: %s. Do you agree?", p.Actor, p.Says),
			) {
				return &exit{Refused, fmt.Errorf("proposal %s was not agreed to; --yes agrees without asking", args[0])}
			}
		}
		proposal, err := numbered("a proposal", args[0], "latch proposal list")
		if err != nil {
			return err
		}
		out, err := a.api().AgreeToProposal(a.ctx, proposal)
		if err != nil {
			return err
		}
		return a.show(out, func() {
			if out.Done {
				a.printf("It is done.\n")
			} else {
				a.printf("You agreed; %s missing yet.\n", count(out.Missing, "person is", "persons are"))
			}
		})
	}
}

func proposalDrop(a *app, _ *flag.FlagSet) func([]string) error {
	return func(args []string) error {
		proposal, err := numbered("a proposal", args[0], "latch proposal list")
		if err != nil {
			return err
		}
		if err := a.api().DropProposal(a.ctx, proposal); err != nil {
			return err
		}
		a.printf("Proposal %s is dropped.\n", args[0])
		return nil
	}
}

func emergencyList(a *app, fs *flag.FlagSet) func([]string) error {
	all := fs.Bool("all", false, "those too that somebody looked at")
	return func([]string) error {
		list, err := a.api().ListEmergencies(a.ctx, client.ListEmergenciesQuery{All: *all})
		if err != nil {
			return err
		}
		return a.show(list, func() {
			for _, e := range list {
				a.printf(
					"%s  change %d, %s, by %s %s\n  reason: %s\n",
					a.paint(alarm, fmt.Sprintf("Emergency %d", e.Number)), e.Change, e.Title, e.Actor, when(e.At),
					e.Reason,
				)
				if e.ReviewedBy != "" {
					a.printf("  looked at by %s %s: %s\n", e.ReviewedBy, when(e.ReviewedAt), e.Review)
				} else {
					a.printf("  nobody looked at it yet: latch emergency review %d WHAT YOU FOUND\n", e.Number)
				}
			}
			if len(list) == 0 {
				a.printf("There is none to be looked at.\n")
			}
		})
	}
}

func emergencyReview(a *app, _ *flag.FlagSet) func([]string) error {
	return func(args []string) error {
		emergency, err := numbered("an emergency", args[0], "latch emergency list")
		if err != nil {
			return err
		}
		note := wire.NewNote{Text: strings.Join(args[1:], " ")}
		if err := a.api().ReviewEmergency(a.ctx, emergency, note); err != nil {
			return err
		}
		a.printf("Emergency %s is looked at.\n", args[0])
		return nil
	}
}
