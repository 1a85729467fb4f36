package problem

import (
	"encoding/json"
	"fmt"
	"io"
	"net/url"
	"path/filepath"
	"strings"
)

// The parts of SARIF 2.1.0 (OASIS standard, sections 3.13 to 3.30) that a
// problem fills.
type (
	sarifLog struct {
		Schema  string     `json:"$schema"`
		Version string     `json:"version"`
		Runs    []sarifRun `json:"runs"`
	}
	sarifRun struct {
		Tool       sarifTool     `json:"tool"`
		ColumnKind string        `json:"columnKind"`
		Results    []sarifResult `json:"results"`
	}
	sarifTool struct {
		Driver sarifDriver `json:"driver"`
	}
	sarifDriver struct {
		Name string `json:"name"`
	}
	sarifResult struct {
		RuleID           string          `json:"ruleId,omitempty"`
		Level            string          `json:"level"`
		Message          sarifMessage    `json:"message"`
		Locations        []sarifLocation `json:"locations,omitempty"`
		RelatedLocations []sarifLocation `json:"relatedLocations,omitempty"`
		OccurrenceCount  int             `json:"occurrenceCount,omitempty"`
	}
	sarifMessage struct {
		Text string `json:"text"`
	}
	sarifLocation struct {
		PhysicalLocation *sarifPhysical `json:"physicalLocation,omitempty"`
		Message          *sarifMessage  `json:"message,omitempty"`
	}
	sarifPhysical struct {
		ArtifactLocation sarifArtifact `json:"artifactLocation"`
		Region           *sarifRegion  `json:"region,omitempty"`
	}
	sarifArtifact struct {
		URI string `json:"uri"`
	}
	sarifRegion struct {
		StartLine   int `json:"startLine"`
		StartColumn int `json:"startColumn,omitempty"`
		EndLine     int `json:"endLine,omitempty"`
		EndColumn   int `json:"endColumn,omitempty"`
	}
)

// WriteSARIF writes the problems as a SARIF 2.1.0 log of one run.
func WriteSARIF(w io.Writer, problems []Problem) error {
	run := sarifRun{
		Tool:       sarifTool{sarifDriver{"tidytally"}},
		ColumnKind: "unicodeCodePoints",
		Results:    make([]sarifResult, 0, len(problems)),
	}
	for i := range problems {
		p := &problems[i]
		r := sarifResult{RuleID: p.Code, Level: p.Severity.String(), Message: sarifMessage{p.Message}}
		if p.File != "" {
			r.Locations = []sarifLocation{{PhysicalLocation: physical(p.Place)}}
		}
		for _, rel := range p.Related {
			loc := sarifLocation{Message: &sarifMessage{rel.Message}}
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
	enc := json.NewEncoder(w)
	enc.SetEscapeHTML(false)
	enc.SetIndent("", " ")
	return enc.Encode(sarifLog{
		Schema:  "https://json.schemastore.org/sarif-2.1.0.json",
		Version: "2.1.0",
		Runs:    []sarifRun{run},
	})
}

func physical(p Place) *sarifPhysical {
	ph := &sarifPhysical{ArtifactLocation: sarifArtifact{fileURI(p.File)}}
	if p.Line > 0 {
		ph.Region = &sarifRegion{p.Line, p.Column, p.EndLine, p.EndColumn}
	}
	return ph
}

// fileURI gives a relative reference for a relative path and a file URI for an
// absolute one (SARIF 3.4.3, RFC 3986).
func fileURI(path string) string {
	path = filepath.ToSlash(path)
	u := url.URL{Path: path}
	if strings.HasPrefix(path, "/") {
		u.Scheme = "file"
		return u.String()
	}
	return u.String()
}

// GNU gives the problem in the form of the GNU Coding Standards (section
// "Formatting Error Messages"): file:line:column: severity: message [code].
func (p *Problem) GNU() string {
	var b strings.Builder
	if place := p.Place.String(); place != "" {
		b.WriteString(place + ": ")
	}
	fmt.Fprintf(&b, "%s: %s", p.Severity, strings.Join(strings.Fields(p.Message), " "))
	if p.Code != "" {
		fmt.Fprintf(&b, " [%s]", p.Code)
	}
	return b.String()
}

// String gives the problem as GNU does.
func (p *Problem) String() string { return p.GNU() }
