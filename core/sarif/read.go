package sarif

import (
	"encoding/json"
	"net/url"
	"strings"

	"tidytally/core/problem"
)

const (
	// maxRelated is the number of related places of a result that are read.
	maxRelated = 256
	// maxBases is the number of base URIs that a URI may refer to in a chain.
	maxBases = 8
)

// Read returns the problems of a log of any tool: the results that say that
// something is wrong and are not suppressed. It returns false if data is no log
// of version 2. Files are as the log has them; those of file URIs are paths.
func Read(data []byte) (problems []problem.Problem, ok bool) {
	var log Log
	if json.Unmarshal(data, &log) != nil || !strings.HasPrefix(log.Version, "2.") || log.Runs == nil {
		return nil, false
	}
	for i := range log.Runs {
		run := &log.Runs[i]
		for j := range run.Results {
			r := &run.Results[j]
			if len(r.Suppressions) == 0 && (r.Kind == "" || r.Kind == "fail") { // 3.27.9, 3.27.23
				problems = append(problems, run.problem(r))
			}
		}
	}
	return problems, true
}

func (run *Run) problem(r *Result) problem.Problem {
	var of Rule
	if r.RuleIndex != nil && *r.RuleIndex >= 0 && *r.RuleIndex < len(run.Tool.Driver.Rules) {
		of = run.Tool.Driver.Rules[*r.RuleIndex]
	}
	p := problem.Problem{Severity: problem.Warning, Code: r.RuleID, Message: r.Message.Text}
	if p.Code == "" && r.Rule != nil {
		p.Code = r.Rule.ID
	}
	if p.Code == "" {
		p.Code = of.ID
	}
	if p.Message == "" {
		p.Message = of.MessageStrings[r.Message.ID].Text
	}
	level := r.Level
	if level == "" {
		level = of.DefaultConfiguration.Level
	}
	switch level {
	case "error":
		p.Severity = problem.Error
	case "note", "none":
		p.Severity = problem.Note
	}
	// gcc returns the severity where other tools name a rule.
	switch p.Code {
	case "error", "fatal error", "warning", "note":
		p.Code = ""
	}
	p.Code = strings.TrimPrefix(p.Code, "-W")
	if len(r.Locations) > 0 {
		p.Place = run.place(r.Locations[0])
	}
	for _, rel := range r.RelatedLocations[:min(len(r.RelatedLocations), maxRelated)] {
		related := problem.Related{Place: run.place(rel)}
		if rel.Message != nil {
			related.Message = rel.Message.Text
		}
		p.Related = append(p.Related, related)
	}
	return p
}

func (run *Run) place(l Location) (p problem.Place) {
	if l.PhysicalLocation == nil {
		return p
	}
	p.File = run.resolve(l.PhysicalLocation.ArtifactLocation, 0)
	if u, err := url.Parse(p.File); err == nil && (u.Scheme == "" || u.Scheme == "file") {
		p.File = u.Path
	}
	if r := l.PhysicalLocation.Region; r != nil && p.File != "" {
		p.Line, p.Column, p.EndLine, p.EndColumn = r.StartLine, r.StartColumn, r.EndLine, r.EndColumn
		if p.EndColumn > 0 && p.EndLine == 0 {
			p.EndLine = p.Line // the default (3.30.7)
		}
	}
	return p
}

// resolve returns the URI of a location, with that of its base in front (3.4.4).
func (run *Run) resolve(a ArtifactLocation, depth int) string {
	if a.URI == "" && a.Index != nil && *a.Index >= 0 && *a.Index < len(run.Artifacts) {
		a = run.Artifacts[*a.Index].Location
	}
	base, ok := run.OriginalURIBaseIDs[a.URIBaseID]
	if !ok || depth == maxBases || strings.Contains(a.URI, "://") || strings.HasPrefix(a.URI, "/") {
		return a.URI
	}
	return run.resolve(base, depth+1) + a.URI
}
