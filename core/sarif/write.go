package sarif

import (
	"encoding/json"
	"io"
	"net/url"
	"path/filepath"
	"strings"

	"tidytally/core/printable"
	"tidytally/core/problem"
)

// Write writes problems as a log of one run.
func Write(w io.Writer, problems []problem.Problem) error {
	run := Run{
		Tool:       Tool{Driver{Name: "tidytally"}},
		ColumnKind: "unicodeCodePoints",
		Results:    make([]Result, 0, len(problems)),
	}
	for i := range problems {
		p := &problems[i]
		r := Result{RuleID: p.Code, Level: p.Severity.String(), Message: Message{Text: p.Message}}
		if p.File != "" {
			r.Locations = []Location{{PhysicalLocation: physical(p.Place)}}
		}
		if p.Test != "" { // 3.28.3 and 3.33
			if len(r.Locations) == 0 {
				r.Locations = []Location{{}}
			}
			r.Locations[0].LogicalLocations = []LogicalLocation{{FullyQualifiedName: p.Test, Kind: "function"}}
		}
		for _, rel := range p.Related {
			loc := Location{Message: &Message{Text: rel.Message}}
			if rel.File != "" {
				loc.PhysicalLocation = physical(rel.Place)
			}
			r.RelatedLocations = append(r.RelatedLocations, loc)
		}
		if p.Times > 1 {
			r.OccurrenceCount = p.Times
		}
		run.Results = append(run.Results, r)
	}
	enc := json.NewEncoder(printable.JSON{To: w})
	enc.SetEscapeHTML(false)
	enc.SetIndent("", " ")
	return enc.Encode(Log{
		Schema:  "https://json.schemastore.org/sarif-2.1.0.json",
		Version: "2.1.0",
		Runs:    []Run{run},
	})
}

func physical(p problem.Place) *PhysicalLocation {
	l := &PhysicalLocation{ArtifactLocation: ArtifactLocation{URI: fileURI(p.File)}}
	if p.Line > 0 {
		l.Region = &Region{p.Line, p.Column, p.EndLine, p.EndColumn}
	}
	return l
}

// fileURI returns a relative reference for a relative path and a file URI for an
// absolute one (3.4.3, RFC 3986).
func fileURI(path string) string {
	u := url.URL{Path: filepath.ToSlash(path)}
	if strings.HasPrefix(u.Path, "/") {
		u.Scheme = "file"
	}
	return u.String()
}
