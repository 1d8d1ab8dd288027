package flow

import "slices"

// Sheet is what is told of one filter: what each rule decides, which rules are not
// needed, which clash. In a list of filters it is without these.
type Sheet struct {
	Name  string      `json:"name"`
	Path  string      `json:"path"`
	Count int         `json:"count"` // rules
	Rules []SheetRule `json:"rules,omitempty"`
	// the rules that can all go, proved: nothing is done otherwise without them
	Clean        []string     `json:"clean,omitempty"`
	CleanUnknown string       `json:"cleanUnknown,omitempty"` // why there may be more
	Clashes      []SheetClash `json:"clashes,omitempty"`      // pairs of which the order matters
	Trouble      string       `json:"trouble,omitempty"`      // why it could not be looked through
}

// SheetRule is a rule and what it decides.
type SheetRule struct {
	Name     string   `json:"name"`
	Path     string   `json:"path"`
	Action   string   `json:"action"`
	Fits     []string `json:"fits"`              // the packets that it is about
	Decides  []string `json:"decides,omitempty"` // those of them that no rule before it does
	More     bool     `json:"more,omitempty"`    // there are more lines than are given
	Standing string   `json:"standing" jsonschema:"enum=needed,enum=never-reached,enum=redundant"`
	Bits     float64  `json:"bits"` // how wide it is, as Width has it
}

// SheetClash is two rules that do otherwise with some of the same packets.
type SheetClash struct {
	First   string `json:"first"`
	Second  string `json:"second"`
	Example string `json:"example"`
}

// What is told of one filter at most.
const (
	sheetLines  = 6
	mostClashes = 50
	mostDecided = 2000 // rules; beyond that, what each decides is not worked out
)

var standingText = map[Standing]string{Needed: "needed", Unreached: "never-reached", Redundant: "redundant"}

// Sheet looks a filter through.
func (f Filter) Sheet() Sheet {
	out := Sheet{Name: f.Name, Path: f.Path, Count: len(f.Rules)}
	s := NewSpace(Limits{})
	standing := s.Inspect(f.Rules)
	for i, r := range f.Rules {
		told := SheetRule{
			Name: r.Name, Path: r.Path, Action: r.Action.String(), Standing: standingText[standing[i]], Bits: r.Width(),
		}
		var all bool
		told.Fits, all = s.Matching(r.Match, r.Facts...).texts()
		told.More = !all
		if len(f.Rules) <= mostDecided {
			told.Decides, all = s.DecidedBy(f.Rules, i).texts()
			told.More = told.More || !all
		}
		out.Rules = append(out.Rules, told)
	}
	c := NewSpace(Limits{})
	out.Clean = removable(f.Rules, c.Clean(f.Rules))
	if c.Err() != nil {
		out.CleanUnknown = "more may be able to go with them: that is too much to be proved here at once; take these " +
			"out and ask again"
	}
	for _, x := range s.Clashes(f.Rules, mostClashes) {
		out.Clashes = append(
			out.Clashes,
			SheetClash{First: f.Rules[x.First].Name, Second: f.Rules[x.Second].Name, Example: x.Example.String()},
		)
	}
	if s.Err() != nil {
		return Sheet{Name: f.Name, Path: f.Path, Count: len(f.Rules), Trouble: tooLarge(s.Err())}
	}
	return out
}

// removable gives the rules of a configuration of which nothing is needed: one of
// them may be several here.
func removable(rules []Rule, gone []int) (out []string) {
	left := map[string]bool{}
	for i, r := range rules {
		if !slices.Contains(gone, i) {
			left[r.Path] = true
		}
	}
	for _, i := range gone {
		if r := rules[i]; !left[r.Path] && !slices.Contains(out, r.Name) {
			out = append(out, r.Name)
		}
	}
	return out
}

func (a Set) texts() ([]string, bool) {
	lines, all := a.Lines(sheetLines)
	out := []string{}
	for _, l := range lines {
		out = append(out, l.String())
	}
	return out, all
}
