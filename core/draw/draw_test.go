package draw

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tidytally/core/plan"
	"tidytally/core/task"
)

// drawings are one of each kind, with names that must not break a file.
func drawings(t *testing.T) map[string]func(io.Writer, Paper) error {
	t.Helper()
	at := time.Date(2026, 3, 2, 10, 0, 0, 0, time.UTC)
	var points []Point
	for i := range 60 {
		points = append(points, Point{at.Add(time.Duration(i) * time.Hour), 2 + float64(i%7)/3, i % 4, i%5 != 0})
	}
	tasks := []*task.Task{
		{Name: "selftest", File: "kiln/Makefile"},
		{Name: "vet", File: "firing/go.mod"},
		{Name: "server <&>\"'", File: "tidytally.toml", LongRunning: true},
		{Name: "check-all", File: "tidytally.toml", Before: []string{"selftest", "vet"}, With: []string{"server <&>\"'"}, After: []string{"sweep"}},
		{Name: "sweep", File: "tidytally.toml"},
	}
	p, err := plan.Of(tasks, tasks[3])
	if err != nil {
		t.Fatal(err)
	}
	var steps []PlanStep
	for i := range p.Steps {
		steps = append(steps, PlanStep{p.Steps[i].Task.Name, "make \x1b[31m" + p.Steps[i].Task.Name, []string{"ok", "failed", "", "up"}[i%4]})
	}
	return map[string]func(io.Writer, Paper) error{
		"trend": func(w io.Writer, on Paper) error { return Trend(w, on, "firing#test, 60 runs", points) },
		"one":   func(w io.Writer, on Paper) error { return Trend(w, on, "one run", points[:1]) },
		"none":  func(w io.Writer, on Paper) error { return Trend(w, on, "no run", nil) },
		"plan":  func(w io.Writer, on Paper) error { return Plan(w, on, "plan of check-all", p, steps) },
		"timeline": func(w io.Writer, on Paper) error {
			return Timeline(w, on, "run 7 <\x00>", []Bar{{"kiln#selftest", at, at.Add(time.Second), "ok"}, {"firing#vet", at, at.Add(3 * time.Second), "failed"}, {"x", at, at, "running"}})
		},
		"empty": func(w io.Writer, on Paper) error { return Timeline(w, on, "nothing", nil) },
	}
}

// Each drawing is a valid file of its format, with real text and without scripts.
func TestDrawingsAreValid(t *testing.T) {
	words := map[string][]string{
		"trend": {"firing#test, 60 runs", "seconds", "problems"}, "one": {"one run"}, "none": {"no run"}, "empty": {"nothing"},
		"plan": {"plan of check-all", "selftest", "server"}, "timeline": {"kiln#selftest", "failed, 3.0 s"},
	}
	for name, draw := range drawings(t) {
		for _, on := range []Paper{{"svg", false}, {"svg", true}, {"pdf", false}} {
			var b bytes.Buffer
			if err := draw(&b, on); err != nil {
				t.Fatalf("%s as %s: %v", name, on.Format, err)
			}
			text := ""
			if on.Format == "svg" {
				text = svgText(t, name, b.Bytes())
			} else {
				if !bytes.HasPrefix(b.Bytes(), []byte("%PDF-")) || !bytes.Contains(b.Bytes()[b.Len()-10:], []byte("%%EOF")) {
					t.Errorf("%s is no PDF", name)
				}
				if _, err := exec.LookPath("pdftotext"); err != nil {
					continue
				}
				file := filepath.Join(t.TempDir(), "x.pdf")
				if err := os.WriteFile(file, b.Bytes(), 0o644); err != nil {
					t.Fatal(err)
				}
				out, err := exec.Command("pdftotext", "-layout", file, "-").CombinedOutput()
				if err != nil {
					t.Errorf("%s: pdftotext: %v %s", name, err, out)
				}
				text = string(out)
			}
			for _, w := range words[name] {
				if !strings.Contains(text, w) {
					t.Errorf("%s as %s: %q is not in its text: %q", name, on.Format, w, text)
				}
			}
		}
	}
}

// svgText returns the text of an SVG, which must be well-formed XML.
func svgText(t *testing.T, name string, data []byte) string {
	t.Helper()
	var all []string
	dec := xml.NewDecoder(bytes.NewReader(data))
	inText := false
	for {
		tok, err := dec.Token()
		if err == io.EOF {
			return strings.Join(all, " ")
		}
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		switch tok := tok.(type) {
		case xml.StartElement:
			inText = tok.Name.Local == "text"
			if tok.Name.Local == "script" || tok.Name.Local == "foreignObject" {
				t.Errorf("%s holds a %s", name, tok.Name.Local)
			}
		case xml.CharData:
			if inText {
				all = append(all, string(tok))
			}
			if bytes.ContainsAny(tok, "\x1b\x00") {
				t.Errorf("%s has control characters: %q", name, tok)
			}
		}
	}
}

func TestFormats(t *testing.T) {
	for name, want := range map[string]string{"a.svg": "svg", "b.PDF": "pdf", "c.png": "error", "": "error"} {
		got, err := FormatOf(name)
		if err != nil {
			got = "error"
		}
		if got != want {
			t.Errorf("%q: %s, %v", name, got, err)
		}
	}
}

// In a plan each step stands to the right of those that it waits for.
func TestLayersOfAPlan(t *testing.T) {
	var b bytes.Buffer
	if err := drawings(t)["plan"](&b, Paper{Format: "svg"}); err != nil {
		t.Fatal(err)
	}
	x := map[string]float64{}
	dec := xml.NewDecoder(&b)
	at := 0.0
	for {
		tok, err := dec.Token()
		if err != nil {
			break
		}
		switch tok := tok.(type) {
		case xml.StartElement:
			for _, a := range tok.Attr {
				if a.Name.Local == "x" {
					fmt.Sscan(a.Value, &at)
				}
			}
		case xml.CharData:
			if word := strings.TrimSpace(string(tok)); word != "" && x[word] == 0 {
				x[word] = at
			}
		}
	}
	if !(x["selftest"] == x["vet"] && x["selftest"] < x["check-all"] && x["check-all"] < x["sweep"]) {
		t.Errorf("columns: %v", x)
	}
}
