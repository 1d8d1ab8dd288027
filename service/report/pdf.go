package report

import (
	"bytes"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"

	"codeberg.org/go-pdf/fpdf"
	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/gofont/gomono"
	"golang.org/x/image/font/gofont/gomonobold"
	"golang.org/x/image/font/gofont/goregular"
	"golang.org/x/image/font/sfnt"

	"oakenlatch/core/diff"
)

// Measures of a page, in millimetres: A4 with margins that US Letter has room
// for too.
const (
	pageWidth   = 210.0
	margin      = 16.0
	bottom      = 20.0
	body        = pageWidth - 2*margin
	textLine    = 4.6
	monoLine    = 4.1
	factName    = 34.0
	narrowest   = 14.0
	mostColumn  = 38.0 // of those that do not take what room there is
	cellPadding = 1.6
)

// Grey levels: what is told by colour on the screen is told by weight, mark and
// shade on paper.
var shades = map[string][3]int{
	"added": {222, 234, 247}, "removed": {244, 228, 219}, "changed": {233, 226, 243}, "moved": {231, 234, 237},
}

// printer writes a report as PDF.
type printer struct {
	*fpdf.Fpdf
	known *sfnt.Font
	buf   sfnt.Buffer
}

// PDF writes a report as PDF, A4, with page numbers.
func (r Report) PDF(w io.Writer) error {
	known, err := sfnt.Parse(gomono.TTF)
	if err != nil {
		return err
	}
	p := &printer{Fpdf: fpdf.New("P", "mm", "A4", ""), known: known}
	for _, f := range []struct {
		family, style string
		ttf           []byte
	}{{"text", "", goregular.TTF}, {"text", "B", gobold.TTF}, {"mono", "", gomono.TTF}, {"mono", "B", gomonobold.TTF}} {
		// A copy: the library writes into it, and other reports may be made at this moment.
		p.AddUTF8FontFromBytes(f.family, f.style, bytes.Clone(f.ttf))
	}
	p.SetTitle(r.Title, true)
	p.SetCreator("Oaken Latch", true)
	p.SetCreationDate(r.Made)
	p.SetModificationDate(r.Made)
	p.SetCatalogSort(true) // the same report is the same bytes
	p.SetMargins(margin, margin, margin)
	p.SetAutoPageBreak(true, bottom)
	p.AliasNbPages("{pages}")
	p.SetFooterFunc(func() { p.footer(r) })
	p.AddPage()
	p.head(r)
	for _, s := range r.Sections {
		p.section(s)
	}
	return p.Output(w)
}

func (p *printer) font(style string, size float64) { p.SetFont("text", style, size) }
func (p *printer) mono(style string, size float64) { p.SetFont("mono", style, size) }

// drawn gives a text with a box in place of what the fonts have no shape for,
// so that nothing is left out in silence.
func (p *printer) drawn(text string) string {
	return strings.Map(func(r rune) rune {
		if r == '\n' {
			return r
		}
		if r == '\t' {
			return ' '
		}
		if i, err := p.known.GlyphIndex(&p.buf, r); err != nil || i == 0 {
			return '\u25a1'
		}
		return r
	}, text)
}

func (p *printer) footer(r Report) {
	p.SetY(-bottom + 5)
	p.SetDrawColor(150, 150, 150)
	p.Line(margin, p.GetY(), pageWidth-margin, p.GetY())
	p.font("", 7.5)
	p.SetTextColor(70, 70, 70)
	left := fmt.Sprintf("Made %s for %s by Oaken Latch.", stamp(r.Made), p.drawn(r.By))
	if r.Ledger.Seq > 0 {
		left += fmt.Sprintf(" Ledger entry %d, digest", r.Ledger.Seq)
	}
	p.CellFormat(body-30, 4, left, "", 0, "L", false, 0, "")
	p.CellFormat(30, 4, fmt.Sprintf("page %d of {pages}", p.PageNo()), "", 1, "R", false, 0, "")
	p.mono("", 6.5)
	p.CellFormat(body, 3.4, r.Ledger.Hash, "", 0, "L", false, 0, "")
}

func (p *printer) head(r Report) {
	p.font("B", 16)
	p.SetTextColor(20, 20, 20)
	p.MultiCell(body, 7.2, p.drawn(r.Title), "", "L", false)
	p.font("", 10.5)
	p.SetTextColor(80, 80, 80)
	p.MultiCell(body, 5.4, p.drawn(r.Subtitle), "", "L", false)
	p.SetLineWidth(0.7)
	p.SetDrawColor(80, 60, 40)
	p.Line(margin, p.GetY()+1, pageWidth-margin, p.GetY()+1)
	p.SetLineWidth(0.2)
	p.Ln(4)
	p.facts(r.Facts)
}

// room begins a new page where less than so much is left on this one.
func (p *printer) room(height float64) {
	_, full := p.GetPageSize()
	if p.GetY()+height > full-bottom {
		p.AddPage()
	}
}

func (p *printer) facts(list []Fact) {
	for _, f := range list {
		p.room(2 * textLine)
		p.font("", 9)
		p.SetTextColor(90, 90, 90)
		p.CellFormat(factName, textLine, f.Name, "", 0, "L", false, 0, "")
		p.SetTextColor(20, 20, 20)
		p.SetLeftMargin(margin + factName)
		p.wrapped(p.drawn(f.Value), body-factName, textLine)
		p.SetLeftMargin(margin)
		p.SetX(margin)
	}
}

// wrapped writes a text in lines that are broken where they must be, in the
// middle of a word if it is too long.
func (p *printer) wrapped(text string, width, line float64) {
	for _, l := range p.split(text, width) {
		p.CellFormat(width, line, l, "", 1, "L", false, 0, "")
	}
}

// split breaks a text into lines of a width.
func (p *printer) split(text string, width float64) []string {
	var out []string
	for _, paragraph := range strings.Split(text, "\n") {
		rest := paragraph
		for p.GetStringWidth(rest) > width-2 {
			n := p.fits(rest, width-2)
			cut := n
			if space := strings.LastIndexAny(rest[:n], " /"); space > n/2 {
				cut = space + 1
			}
			out = append(out, strings.TrimRight(rest[:cut], " "))
			rest = rest[cut:]
		}
		out = append(out, rest)
	}
	return out
}

// fits gives how many bytes of a text fit into a width, at least one character.
func (p *printer) fits(text string, width float64) int {
	low, high := 1, utf8.RuneCountInString(text)
	runes := []rune(text)
	for low < high {
		mid := (low + high + 1) / 2
		if p.GetStringWidth(string(runes[:mid])) <= width {
			low = mid
		} else {
			high = mid - 1
		}
	}
	return len(string(runes[:low]))
}

func (p *printer) section(s Section) {
	p.room(22)
	p.Ln(3)
	p.font("B", 11)
	p.SetTextColor(20, 20, 20)
	p.wrapped(p.drawn(s.Title), body, 5.6)
	p.SetDrawColor(160, 160, 160)
	p.Line(margin, p.GetY(), pageWidth-margin, p.GetY())
	p.Ln(1.2)
	if s.Text != "" {
		p.font("", 9)
		p.wrapped(p.drawn(s.Text), body, textLine)
	}
	p.facts(s.Facts)
	if s.Table != nil {
		p.table(s.Table)
	}
	for _, l := range s.Lines {
		p.line(l)
	}
	if s.Left > 0 {
		p.font("", 9)
		p.wrapped(
			fmt.Sprintf("%d more lines were left out; the console and the client show all of them.", s.Left), body,
			textLine,
		)
	}
}

// line draws a line of a difference.
func (p *printer) line(l diff.Line) {
	kind := kindOf(l)
	style := ""
	if shade, ok := shades[kind]; ok {
		style = "B"
		p.SetFillColor(shade[0], shade[1], shade[2])
	}
	p.mono(style, 8)
	p.SetTextColor(20, 20, 20)
	if kind == "same" {
		p.SetTextColor(95, 95, 95)
	}
	mark := l.Mark
	if mark == "" {
		mark = " "
	}
	indent := min(float64(l.Depth)*3.2, body/2)
	for i, text := range p.split(p.drawn(l.Text), body-8-indent) {
		if i > 0 {
			mark = " "
		}
		p.room(monoLine)
		p.CellFormat(6, monoLine, p.drawn(mark), "", 0, "C", kind != "same", 0, "")
		p.CellFormat(2+indent, monoLine, "", "", 0, "L", kind != "same", 0, "")
		p.CellFormat(body-8-indent, monoLine, text, "", 1, "L", kind != "same", 0, "")
	}
}

// table draws rows; a head stands on every page.
func (p *printer) table(t *Table) {
	widths := p.widths(t)
	head := func() {
		p.font("B", 8)
		p.SetTextColor(20, 20, 20)
		p.SetFillColor(236, 233, 228)
		for i, h := range t.Head {
			p.CellFormat(widths[i], 5, h, "B", 0, "L", true, 0, "")
		}
		p.Ln(5)
	}
	head()
	_, full := p.GetPageSize()
	for _, row := range t.Rows {
		p.font("", 8)
		cells := make([][]string, len(row))
		tall := 1
		for i, text := range row {
			cells[i] = p.split(p.drawn(text), widths[i]-cellPadding)
			tall = max(tall, len(cells[i]))
		}
		for k := range tall { // a row may be taller than a page
			if p.GetY()+4 > full-bottom {
				p.AddPage()
				head()
				p.font("", 8)
			}
			border := ""
			if k == tall-1 {
				border = "B"
			}
			p.SetDrawColor(205, 205, 205)
			for i := range cells {
				text := ""
				if k < len(cells[i]) {
					text = cells[i][k]
				}
				p.CellFormat(widths[i], 4, text, border, 0, "L", false, 0, "")
			}
			p.Ln(4)
		}
	}
}

// widths gives each column what it needs, within bounds; one takes the rest.
func (p *printer) widths(t *Table) []float64 {
	p.font("", 8)
	out := make([]float64, len(t.Head))
	left := body
	for i, h := range t.Head {
		if i == t.Wide {
			continue
		}
		need := p.GetStringWidth(h) + 4
		for _, row := range t.Rows {
			need = max(need, p.GetStringWidth(p.drawn(row[i]))+4)
		}
		out[i] = min(max(need, narrowest), mostColumn)
		left -= out[i]
	}
	out[t.Wide] = max(left, 30)
	return out
}
