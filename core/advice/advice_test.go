package advice_test

import (
	"encoding/json"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/advice"
)

// What a refusal advises, as a program reads it.
func Example() {
	next := advice.Words("undo what of it was confirmed").Do(advice.UndoChange, 7).
		Or("or open a new one", advice.OpenChange)
	fmt.Println(next)
	text, _ := json.Marshal(next[0])
	fmt.Println(string(text))
	// Output:
	// undo what of it was confirmed; or open a new one
	// {"text":"undo what of it was confirmed","action":"undo-change","args":{"change":"7"}}
}

func TestArguments(t *testing.T) {
	assert.Empty(t, advice.Words(""), "no words are no advice")
	part := advice.Words("x").Do(advice.ReadConfig, "quay", "")
	assert.Equal(t, map[string]string{"device": "quay"}, part[0].Args, "what is not known is left out")
	assert.Nil(t, advice.Words("x").Do(advice.ReadConfig)[0].Args)
	assert.Panics(t, func() { advice.Words("x").Do(advice.ListDevices, "quay") }, "more than it takes")
	var back advice.Steps
	text, err := json.Marshal(part)
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(text, &back))
	assert.Equal(t, part, back)
	for _, a := range advice.Actions() {
		assert.Regexp(t, `^[a-z]+(-[a-z]+)*$`, string(a))
	}
}
