package sarif_test

import (
	"bytes"
	"encoding/json"
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
		{Place: problem.Place{File: "my dir/a#b.c", Line: 3, Column: 4, EndLine: 3, EndColumn: 6}, Code: "TS2322", Message: "x",
			Related: []problem.Related{{Place: problem.Place{File: "/abs/h.h", Line: 1}, Message: "here"}}},
		{Severity: problem.Warning, Message: "no place"},
	}
	if err := sarif.Write(&b, problems); err != nil {
		t.Fatal(err)
	}
	var log struct {
		Version string
		Runs    []struct {
			Tool    struct{ Driver struct{ Name string } }
			Results []struct {
				RuleID    string
				Level     string
				Message   struct{ Text *string }
				Locations []struct {
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
