package diff_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"oakenlatch/core/diff"
)

// Where looks at the places of a difference alone: what others changed
// elsewhere does not count, and a mixture is neither.
func TestWhere(t *testing.T) {
	const words = `<words>a</words><words>b</words><words>c</words>`
	old := parse(t, `<depth>8</depth>`+words+`<berth><name>b1</name><ropes>1</ropes></berth>`)
	now := parse(
		t,
		`<depth>9</depth><words>c</words><words>a</words><words>b</words><berth><name>b1</name><ropes>1</ropes><knots>2</knots></berth><berth><name>b2</name></berth>`,
	)
	d := diff.Compare(old, now)
	for _, c := range []struct {
		name, body   string
		isOld, isNew bool
	}{
		{"the old side", `<depth>8</depth>` + words + `<berth><name>b1</name><ropes>1</ropes></berth>`, true, false},
		{
			"old, and something else elsewhere",
			`<name>x</name><depth>8</depth>` + words +
				`<berth><name>b1</name><ropes>7</ropes></berth><berth><name>b9</name></berth>`,
			true, false,
		},
		{
			"new, and something else elsewhere",
			`<name>x</name><depth>9</depth><words>c</words><words>a</words><words>b</words><words>z</words><berth><name>b1</name><ropes>7</ropes><knots>2</knots></berth><berth><name>b2</name></berth>`,
			false, true,
		},
		{"half of it", `<depth>9</depth>` + words + `<berth><name>b1</name><ropes>1</ropes></berth>`, false, false},
		{
			"the order alone is old",
			`<depth>9</depth>` + words + `<berth><name>b1</name><knots>2</knots></berth><berth><name>b2</name></berth>`,
			false, false,
		},
		{"a third value", `<depth>7</depth>` + words, false, false}, {"nothing at all", ``, false, false},
	} {
		isOld, isNew := d.Where(parse(t, c.body))
		assert.Equal(t, []bool{c.isOld, c.isNew}, []bool{isOld, isNew}, c.name)
	}
	same := diff.Compare(old, old)
	isOld, isNew := same.Where(now)
	assert.True(t, isOld && isNew, "nothing differs, so nothing can be told")
}
