package sarif_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"reflect"
	"strings"
	"testing"

	"tidytally/core/problem"
	"tidytally/core/sarif"
)

// What SARIF 2.1.0 requires (3.13, 3.27, 3.28, 3.29, 3.30): the version, runs
// with a tool's driver name, messages with text, levels of the enumeration,
// lines and columns from 1, URIs that are escaped.
func TestSARIFKeepsTheStandardsRules(t *testing.T) {
	var b bytes.Buffer
	problems := []problem.Problem{
		{
			Place: problem.Place{File: "my dir/a#b.c", Line: 3, Column: 4, EndLine: 3, EndColumn: 6}, Code: "TS2322", Message: "x",
			Related: []problem.Related{{Place: problem.Place{File: "/abs/h.h", Line: 1}, Message: "here"}},
		},
		{Severity: problem.Warning, Message: "no place", Times: 3},
	}
	if err := sarif.Write(&b, problems); err != nil {
		t.Fatal(err)
	}
	var log struct {
		Version string
		Runs    []struct {
			Tool       struct{ Driver struct{ Name string } }
			ColumnKind string
			Results    []struct {
				OccurrenceCount *int
				RuleID          string
				Level           string
				Message         struct{ Text *string }
				Locations       []struct {
					PhysicalLocation struct {
						ArtifactLocation struct{ URI string }
						Region           struct{ StartLine, StartColumn, EndColumn int }
					}
				}
				RelatedLocations []struct {
					PhysicalLocation struct{ ArtifactLocation struct{ URI string } }
				}
			}
		}
	}
	if err := json.Unmarshal(b.Bytes(), &log); err != nil {
		t.Fatal(err)
	}
	run := log.Runs[0]
	if run.ColumnKind != "unicodeCodePoints" { // 3.14.17
		t.Errorf("columns are %q", run.ColumnKind)
	}
	if run.Results[0].OccurrenceCount != nil || run.Results[1].OccurrenceCount == nil || *run.Results[1].OccurrenceCount != 3 { // 3.27.10
		t.Errorf("counts %v and %v", run.Results[0].OccurrenceCount, run.Results[1].OccurrenceCount)
	}
	if log.Version != "2.1.0" || run.Tool.Driver.Name == "" || len(run.Results) != 2 {
		t.Fatalf("%+v", log)
	}
	r := run.Results[0]
	at := r.Locations[0].PhysicalLocation
	if at.ArtifactLocation.URI != "my%20dir/a%23b.c" || at.Region.StartLine != 3 || at.Region.StartColumn != 4 || at.Region.EndColumn != 6 || r.RuleID != "TS2322" || r.Level != "error" {
		t.Errorf("%+v", r)
	}
	if uri := r.RelatedLocations[0].PhysicalLocation.ArtifactLocation.URI; uri != "file:///abs/h.h" {
		t.Errorf("related: %s", uri)
	}
	if r := run.Results[1]; r.Level != "warning" || len(r.Locations) != 0 || *r.Message.Text != "no place" {
		t.Errorf("%+v", r)
	}
}

// Problems that are written are read back the same, except for fields that SARIF lacks.
func TestReadWhatWasWritten(t *testing.T) {
	problems := []problem.Problem{
		{
			Place: problem.Place{File: "my dir/a#b.c", Line: 3, Column: 4, EndLine: 3, EndColumn: 6}, Code: "TS2322", Message: "x \u202e \x1b[31m\n second line",
			Related: []problem.Related{{Place: problem.Place{File: "/abs/h.h", Line: 1}, Message: "here"}, {Message: "no place"}},
		},
		{Severity: problem.Warning, Place: problem.Place{File: "b.c"}, Message: "a file alone"},
		{Severity: problem.Note, Message: "nowhere", Code: "N1"},
	}
	var b bytes.Buffer
	if err := sarif.Write(&b, problems); err != nil {
		t.Fatal(err)
	}
	if text := b.String(); strings.ContainsAny(text, "\u202e\x1b") {
		t.Errorf("a terminal would obey %q", text)
	}
	got, ok := sarif.Read(b.Bytes())
	if !ok || !reflect.DeepEqual(got, problems) {
		t.Errorf("read %v\n%+v\nwritten\n%+v", ok, got, problems)
	}
}

// The parts of a log from which a problem takes its values (3.4.4, 3.11, 3.27, 3.30.7).
func TestReadLogsOfOtherTools(t *testing.T) {
	const rules = `"tool":{"driver":{"name":"x","rules":[{"id":"R0"},{"id":"R1","messageStrings":{"m":{"text":"from the rule"}},"defaultConfiguration":{"level":"error"}}]}}`
	for _, c := range []struct{ name, run, want string }{
		{"level", rules + `,"results":[{"level":"note","message":{"text":"m"}}]`, ": note: m"},
		{"no level is a warning", rules + `,"results":[{"message":{"text":"m"}}]`, ": warning: m"},
		{"level of the rule", rules + `,"results":[{"ruleIndex":1,"message":{"id":"m"}}]`, ": error: from the rule [R1]"},
		{"a rule index that is none", rules + `,"results":[{"ruleIndex":7,"message":{"text":"m"}},{"ruleIndex":-1,"message":{"text":"n"}}]`, ": warning: m\n: warning: n"},
		{"rule by name", rules + `,"results":[{"rule":{"id":"R9"},"message":{"text":"m"}}]`, ": warning: m [R9]"},
		{"gcc's severity for a rule", rules + `,"results":[{"ruleId":"error","level":"error","message":{"text":"m"}},{"ruleId":"-Wunused","message":{"text":"m"}}]`, ": error: m\n: warning: m [unused]"},
		{"suppressed", rules + `,"results":[{"suppressions":[{"kind":"inSource"}],"message":{"text":"m"}}]`, ""},
		{"passed", rules + `,"results":[{"kind":"pass","message":{"text":"m"}},{"kind":"fail","message":{"text":"n"}}]`, ": warning: n"},
		{
			"base", rules + `,"originalUriBaseIds":{"A":{"uri":"src/","uriBaseId":"B"},"B":{"uri":"file:///w/"}},"results":[{"message":{"text":"m"},"locations":[{"physicalLocation":{"artifactLocation":{"uri":"a%20b.c","uriBaseId":"A"},"region":{"startLine":2,"endColumn":5}}}]}]`,
			"/w/src/a b.c:2: warning: m",
		},
		{
			"a base that is its own", rules + `,"originalUriBaseIds":{"A":{"uri":"x/","uriBaseId":"A"}},"results":[{"message":{"text":"m"},"locations":[{"physicalLocation":{"artifactLocation":{"uri":"a.c","uriBaseId":"A"}}}]}]`,
			strings.Repeat("x/", 8) + "a.c: warning: m",
		},
		{
			"artifact by index", rules + `,"artifacts":[{"location":{"uri":"art.c"}}],"results":[{"message":{"text":"m"},"locations":[{"physicalLocation":{"artifactLocation":{"index":0},"region":{"startLine":4,"startColumn":2}}}]}]`,
			"art.c:4:2: warning: m",
		},
		{"another scheme stays", rules + `,"results":[{"message":{"text":"m"},"locations":[{"physicalLocation":{"artifactLocation":{"uri":"https://x/a.c"}}}]}]`, "https://x/a.c: warning: m"},
		{"a region without a file", rules + `,"results":[{"message":{"text":"m"},"locations":[{"physicalLocation":{"artifactLocation":{},"region":{"startLine":4}}},{}]}]`, ": warning: m"},
	} {
		problems, ok := sarif.Read([]byte(`{"version":"2.1.0","runs":[{` + c.run + `}]}`))
		var lines []string
		for _, p := range problems {
			place := p.Place.String()
			line := p.GNU()
			if place == "" {
				line = ": " + line
			}
			lines = append(lines, line)
			if p.EndColumn > 0 && p.EndLine != p.Line {
				t.Errorf("%s: the range ends in line %d", c.name, p.EndLine)
			}
		}
		if got := strings.Join(lines, "\n"); !ok || got != c.want {
			t.Errorf("%s: %v\n%s\nwant\n%s", c.name, ok, got, c.want)
		}
	}
	for _, other := range []string{`{}`, `{"version":"1.0.0","runs":[]}`, `{"version":"2.1.0"}`, `[1]`, ``} {
		if _, ok := sarif.Read([]byte(other)); ok {
			t.Errorf("%q is taken for a log", other)
		}
	}
}

// A result has at most so many related places.
func TestRelatedPlacesAreBounded(t *testing.T) {
	related := strings.TrimSuffix(strings.Repeat(`{"message":{"text":"r"}},`, 1000), ",")
	problems, ok := sarif.Read(fmt.Appendf(nil, `{"version":"2.1.0","runs":[{"results":[{"message":{"text":"m"},"relatedLocations":[%s]}]}]}`, related))
	if !ok || len(problems) != 1 || len(problems[0].Related) != 256 {
		t.Errorf("%v, %d related places", ok, len(problems[0].Related))
	}
}

func FuzzRead(f *testing.F) {
	f.Add([]byte(`{"version":"2.1.0","runs":[{"results":[{"message":{"text":"m"},"locations":[{"physicalLocation":{"artifactLocation":{"uri":"a.c"},"region":{"startLine":4}}}]}]}]}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		problems, _ := sarif.Read(data)
		var b bytes.Buffer
		if err := sarif.Write(&b, problems); err != nil {
			t.Fatal(err)
		}
		if _, ok := sarif.Read(b.Bytes()); !ok {
			t.Fatalf("what was written is no log: %s", b.Bytes())
		}
	})
}
