// Package advice is what to do next, as data: an action and what it is done to. Who shows it says it in its own way:
// a command line as a command, a web page as a button, a program by looking at the action. The words of a step stand
// for themselves where it can be said in no other way.
package advice

import (
	"fmt"
	"strings"
)

// Step is one thing to do next. Action is empty where words are all there is.
type Step struct {
	Text   string            `json:"text"`
	Action Action            `json:"action,omitempty"`
	Args   map[string]string `json:"args,omitempty"`
}

// Steps are what to do next: in order, or one or the other, as their words say.
type Steps []Step

// Words are steps without an action; none where the text is empty.
func Words(text string) Steps {
	if text == "" {
		return nil
	}
	return Steps{{Text: text}}
}

// Do gives the last step its action, with arguments in the order of [Action.Params]; one that is "" or left out is for
// the person to find. There has to be a step, and no more arguments than the action has (test/layers_test.go holds that
// of all there are).
func (s Steps) Do(a Action, args ...any) Steps {
	last := &s[len(s)-1]
	last.Action, last.Args = a, a.args(args)
	return s
}

// Or adds one more step.
func (s Steps) Or(text string, a Action, args ...any) Steps {
	return append(s, Step{text, a, a.args(args)})
}

// String is the steps in words.
func (s Steps) String() string {
	texts := make([]string, len(s))
	for i, step := range s {
		texts[i] = step.Text
	}
	return strings.Join(texts, "; ")
}

func (a Action) args(values []any) map[string]string {
	if len(values) > len(params[a]) {
		panic(fmt.Sprintf("advice: %q takes %d arguments, not %d", a, len(params[a]), len(values)))
	}
	var out map[string]string
	for i, v := range values {
		if text := fmt.Sprint(v); text != "" {
			if out == nil {
				out = map[string]string{}
			}
			out[params[a][i]] = text
		}
	}
	return out
}
