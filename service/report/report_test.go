package report_test

import (
	"bytes"
	"fmt"
	"os/exec"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"oakenlatch/core/diff"
	"oakenlatch/service/report"
)

// sample is a report with everything that may be in one, told apart by its number.
func sample(n int) report.Report {
	rows := [][]string{}
	for i := range 120 {
		rows = append(rows, []string{fmt.Sprint(i), "mara", fmt.Sprintf("row %d of report %d", i, n)})
	}
	return report.Report{
		Title: fmt.Sprintf("Change %d: berth", n), Subtitle: "what happened", By: "mara",
		Made: time.Date(2026, 11, 23, 2, 0, 0, 0, time.UTC),
		Facts: []report.Fact{
			{Name: "Ticket", Value: "TF-204"}, {Name: "Odd", Value: "Ölhafen <b>&\x1b[31m 東京 \u202ex"},
		},
		Sections: []report.Section{
			{Title: "Rows", Table: &report.Table{Head: []string{"No", "Who", "What"}, Rows: rows}},
			{Title: "Long", Text: strings.Repeat("quay", 300) + " end of the long word"},
			{Title: "Lines", Left: 7, Lines: []diff.Line{
				{Mark: diff.MarkSame, Text: "system"},
				{Mark: "~", Depth: 1, Text: "contact: a → b", Before: "contact: a", After: "contact: b"},
			}},
		},
	}
}

func pdf(t *testing.T, r report.Report) []byte {
	t.Helper()
	var b bytes.Buffer
	assert.NoError(t, r.PDF(&b))
	return b.Bytes()
}

// Reports that are made at the same moment are each what they are alone: nothing of one gets into another.
func TestReportsAtOnce(t *testing.T) {
	const n = 8
	alone := make([][]byte, n)
	for i := range n {
		alone[i] = pdf(t, sample(i))
	}
	var wg sync.WaitGroup
	together := make([][]byte, n)
	for i := range n {
		wg.Go(func() { together[i] = pdf(t, sample(i)) })
	}
	wg.Wait()
	for i := range n {
		assert.True(t, bytes.Equal(alone[i], together[i]), "report %d", i)
	}
}

// A reader that is not ours finds everything in the PDF: what fills pages, what is wider than one, and a box where the
// fonts have no shape.
func TestPDFIsReadByOthers(t *testing.T) {
	if _, err := exec.LookPath("pdftotext"); err != nil {
		t.Skip("pdftotext (poppler-utils) is not installed")
	}
	cmd := exec.Command("pdftotext", "-layout", "-", "-")
	cmd.Stdin = bytes.NewReader(pdf(t, sample(3)))
	out, err := cmd.Output()
	require.NoError(t, err)
	text := string(out)
	for _, want := range []string{
		"Change 3: berth", "TF-204", "Ölhafen <b>&", "□", "row 0 of report 3", "row 119 of report 3",
		"end of the long word",
		"contact: a", "7 more lines were left out",
	} {
		assert.Contains(t, text, want)
	}
	assert.NotContains(t, text, "\x1b")
	assert.Equal(t, 300, strings.Count(strings.Join(strings.Fields(text), ""), "quay"), "no part of it is cut off")
}

// The page holds texts as texts, whatever is in them.
func TestHTMLIsText(t *testing.T) {
	r := sample(1)
	r.Title, r.Nonce = `<script>alert("x")</script>`, "n0nce"
	var b bytes.Buffer
	require.NoError(t, r.HTML(&b))
	text := b.String()
	assert.NotContains(t, text, "<script>")
	assert.Contains(t, text, "&lt;script&gt;")
	assert.Contains(t, text, `nonce="n0nce"`)
	assert.Contains(t, text, "row 119 of report 1")
}
