package report

import (
	"bytes"
	"encoding/base64"
	"fmt"
	"html"
	"math"
	"strings"

	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/vgsvg"

	"usherbench/core/procedure"
)

// web is a report as one file of HTML that needs nothing else and prints well.
type web struct {
	b     strings.Builder
	open  string // the element that the next row or picture goes on in
	paper string
	foot  string
}

// webStyle is how the pages look, in the colours of the product.
const webStyle = `
:root{--ink:#1d2a2b;--muted:#5b6a6b;--rule:#ddd5c5;--paper:#f5f1e8}
*{box-sizing:border-box}
body{margin:0;background:var(--paper);color:var(--ink);font:13px/1.45 Inter,"Liberation Sans",Arial,sans-serif;
font-variant-numeric:tabular-nums}
main{max-width:900px;margin:24px auto;padding:34px 44px;background:#fff;border:1px solid var(--rule)}
header{display:flex;gap:14px;align-items:flex-start}
header img,header svg{height:40px;flex:none}
header .words{flex:1;min-width:0}
.kind{color:var(--muted);font-size:12px}
h1{font-size:23px;margin:0 0 4px;overflow-wrap:anywhere}
h2{font-size:15px;margin:22px 0 6px;break-after:avoid}
.badge{border-radius:8px;padding:8px 16px;font-weight:700;font-size:18px;white-space:nowrap}
.warning{color:#a3231c}
.facts{background:var(--paper);border-radius:8px;padding:10px 16px;margin:14px 0;display:grid;
grid-template-columns:1fr 1fr;gap:0 24px}
dl{display:grid;grid-template-columns:auto 1fr;gap:2px 14px;margin:0;align-content:start}
dt{color:var(--muted)}
dd{margin:0;overflow-wrap:anywhere}
table{width:100%;border-collapse:collapse;margin:0;table-layout:fixed}
td{border-bottom:1px solid var(--rule);padding:4px 4px;vertical-align:top;overflow-wrap:anywhere}
tr{break-inside:avoid}
p{margin:4px 0}
.pictures{display:grid;grid-template-columns:repeat(auto-fit,minmax(330px,1fr));gap:12px}
figure{margin:0;break-inside:avoid}
figure svg{width:100%;height:auto}
figure img{max-width:100%;max-height:90mm}
figure p{margin:2px 0;color:var(--muted);font-size:12px}
figcaption{color:var(--muted);font-size:12px}
footer{color:var(--muted);font-size:11px;margin-top:28px}
@media print{body{background:#fff}main{border:0;margin:0;padding:0;max-width:none}
*{-webkit-print-color-adjust:exact;print-color-adjust:exact}}
`

func newWeb(l Look, a about) *web {
	w := &web{paper: orWord(l.Paper, "a4"), foot: a.foot}
	fmt.Fprintf(&w.b, "<!doctype html>\n<html lang=\"%s\">\n<head>\n<meta charset=\"utf-8\">\n"+
		"<meta name=\"viewport\" content=\"width=device-width\">\n<meta name=\"generator\" content=\"Usher Bench\">\n"+
		"<title>%s</title>\n<style>%s@page{size:%s;margin:16mm}</style>\n</head>\n<body>\n<main>\n",
		orWord(l.Language, "en"), html.EscapeString(a.title), webStyle, w.paper)
	return w
}

// close ends the element that is open, unless it is the one that goes on.
func (w *web) close(next string) {
	if w.open == next {
		return
	}
	switch w.open {
	case "table":
		w.b.WriteString("</table>\n")
	case "pictures":
		w.b.WriteString("</div>\n")
	}
	switch w.open = next; next {
	case "table":
		w.b.WriteString("<table>\n")
	case "pictures":
		w.b.WriteString("<div class=\"pictures\">\n")
	}
}

func (w *web) head(h head) {
	w.b.WriteString("<header>")
	if imageKind(h.logo) != "" {
		fmt.Fprintf(&w.b, `<img alt="%s" src="%s">`, html.EscapeString(h.company), inline(h.logo))
	} else {
		w.b.WriteString(`<svg viewBox="0 0 8 9.4" aria-hidden="true"><path d="M4 .3 6 2.4V7.2H2V2.4Z M.8 8.8H7.2" ` +
			`fill="none" stroke="#1d2a2b" stroke-width=".5"/><circle cx="4" cy="4.4" r="1.35" fill="#f3b33d"/></svg>`)
	}
	fmt.Fprintf(&w.b, `<div class="words"><div class="kind">%s · %s</div><h1>%s</h1>`,
		html.EscapeString(orWord(h.company, "Usher Bench")), html.EscapeString(h.kind), html.EscapeString(h.title))
	if h.about != "" {
		fmt.Fprintf(&w.b, "<div>%s</div>", html.EscapeString(h.about))
	}
	if h.warning != "" {
		fmt.Fprintf(&w.b, `<div class="warning">%s</div>`, html.EscapeString(strings.ToUpper(h.warning[:1])+h.warning[1:]))
	}
	w.b.WriteString("</div>")
	if h.outcome != "" {
		c := outcomeColors(h.outcome)
		fmt.Fprintf(&w.b, `<div class="badge" style="color:%s;background:%s">%s %s</div>`, css(c[0]), css(c[1]),
			Sign(h.outcome), html.EscapeString(h.outcomeWord))
	}
	w.b.WriteString("</header>\n")
}

func css(c rgb) string { return fmt.Sprintf("#%02x%02x%02x", c.r, c.g, c.b) }

func (w *web) facts(columns [2][]fact) {
	w.close("")
	w.b.WriteString("<div class=\"facts\">")
	for _, facts := range columns {
		w.b.WriteString("<dl>")
		for _, f := range facts {
			fmt.Fprintf(&w.b, "<dt>%s</dt><dd>%s</dd>", html.EscapeString(f.word), html.EscapeString(f.text))
		}
		w.b.WriteString("</dl>")
	}
	w.b.WriteString("</div>\n")
}

func (w *web) section(title string) {
	w.close("")
	fmt.Fprintf(&w.b, "<h2>%s</h2>\n", html.EscapeString(title))
}

func (w *web) row(cells []cell, _, _ float64) {
	w.close("table")
	whole := 0.0
	for _, c := range cells {
		whole += c.width
	}
	w.b.WriteString("<tr>")
	for _, c := range cells {
		style := fmt.Sprintf("width:%.1f%%", 100*c.width/math.Max(whole, 1))
		if c.align == "R" {
			style += ";text-align:right"
		}
		if c.color != inkColor {
			style += ";color:" + css(c.color)
		}
		if c.bold {
			style += ";font-weight:700"
		}
		fmt.Fprintf(&w.b, `<td style="%s">%s</td>`, style, html.EscapeString(c.text))
	}
	w.b.WriteString("</tr>\n")
}

func (w *web) note(text string, style noteStyle) {
	w.close("")
	weight := "400"
	if style.bold {
		weight = "700"
	}
	fmt.Fprintf(&w.b, `<p style="color:%s;font-weight:%s">%s</p>`+"\n", css(style.color), weight, html.EscapeString(text))
}

func (w *web) drawn(pictures []Picture, width, height float64) error {
	w.close("pictures")
	for _, p := range pictures {
		canvas := vgsvg.NewWith(vgsvg.UseWH(vg.Length(width)*vg.Millimeter, vg.Length(height)*vg.Millimeter))
		if err := p.draw(canvas, width, height); err != nil {
			return err
		}
		var b bytes.Buffer
		if _, err := canvas.WriteTo(&b); err != nil {
			return fmt.Errorf("draw %s: %w", p.Title, err)
		}
		drawing := b.String()
		if at := strings.Index(drawing, "<svg"); at > 0 { // what stands before it is for a file of its own
			drawing = drawing[at:]
		}
		fmt.Fprintf(&w.b, "<figure><figcaption>%s</figcaption>%s</figure>\n", html.EscapeString(p.Title), drawing)
	}
	return nil
}

// inline is a picture within the page, so that it needs no other file.
func inline(data []byte) string {
	return "data:" + procedure.PictureType(data) + ";base64," + base64.StdEncoding.EncodeToString(data)
}

func (w *web) photos(all []photo) {
	for _, x := range all {
		w.image(x.data, x.title, x.about)
	}
}

func (w *web) image(data []byte, title, about string) {
	w.close("pictures")
	fmt.Fprintf(&w.b, "<figure><figcaption>%s</figcaption><img alt=\"\" src=\"%s\"><p>%s</p></figure>\n",
		html.EscapeString(title), inline(data), html.EscapeString(about))
}

func (w *web) gap(float64) { w.close("") }

func (w *web) bytes(string) ([]byte, error) {
	w.close("")
	fmt.Fprintf(&w.b, "<footer>%s</footer>\n</main>\n</body>\n</html>\n", html.EscapeString(w.foot))
	return []byte(w.b.String()), nil
}
