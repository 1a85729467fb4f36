// Package sarif reads and writes logs of the Static Analysis Results Interchange
// Format, SARIF 2.1.0 (OASIS standard). Section numbers are those of the standard.
package sarif

// Log is the part of a log file that problems fill, and that they are read from
// (3.13).
type Log struct {
	Schema  string `json:"$schema,omitempty"`
	Version string `json:"version"`
	Runs    []Run  `json:"runs"`
}

// Run is one run of one tool (3.14).
type Run struct {
	Tool               Tool                        `json:"tool"`
	OriginalURIBaseIDs map[string]ArtifactLocation `json:"originalUriBaseIds,omitempty"`
	Artifacts          []Artifact                  `json:"artifacts,omitempty"`
	ColumnKind         string                      `json:"columnKind,omitempty"`
	Results            []Result                    `json:"results"`
}

// Tool is the tool of a run (3.18).
type Tool struct {
	Driver Driver `json:"driver"`
}

// Driver is the tool's main component (3.19).
type Driver struct {
	Name  string `json:"name"`
	Rules []Rule `json:"rules,omitempty"`
}

// Rule describes a kind of result (3.49).
type Rule struct {
	ID                   string             `json:"id"`
	MessageStrings       map[string]Message `json:"messageStrings,omitempty"`
	DefaultConfiguration struct {
		Level string `json:"level,omitempty"`
	} `json:"defaultConfiguration,omitzero"`
}

// Artifact is a file that the run looked at (3.24).
type Artifact struct {
	Location ArtifactLocation `json:"location"`
}

// Result is one finding (3.27).
type Result struct {
	RuleID    string `json:"ruleId,omitempty"`
	RuleIndex *int   `json:"ruleIndex,omitempty"`
	Rule      *struct {
		ID string `json:"id"`
	} `json:"rule,omitempty"`
	Kind             string     `json:"kind,omitempty"`
	Level            string     `json:"level,omitempty"`
	Message          Message    `json:"message"`
	Locations        []Location `json:"locations,omitempty"`
	RelatedLocations []Location `json:"relatedLocations,omitempty"`
	Suppressions     []any      `json:"suppressions,omitempty"`
	OccurrenceCount  int        `json:"occurrenceCount,omitempty"`
}

// Message is a text, or the name of one of the rule's (3.11).
type Message struct {
	Text string `json:"text,omitempty"`
	ID   string `json:"id,omitempty"`
}

// Location is a place with what is said of it (3.28).
type Location struct {
	PhysicalLocation *PhysicalLocation `json:"physicalLocation,omitempty"`
	LogicalLocations []LogicalLocation `json:"logicalLocations,omitempty"`
	Message          *Message          `json:"message,omitempty"`
}

// LogicalLocation names a function, and so a test (3.33).
type LogicalLocation struct {
	FullyQualifiedName string `json:"fullyQualifiedName,omitempty"`
	Kind               string `json:"kind,omitempty"`
}

// PhysicalLocation is a region of a file (3.29).
type PhysicalLocation struct {
	ArtifactLocation ArtifactLocation `json:"artifactLocation"`
	Region           *Region          `json:"region,omitempty"`
}

// ArtifactLocation names a file (3.4).
type ArtifactLocation struct {
	URI       string `json:"uri,omitempty"`
	URIBaseID string `json:"uriBaseId,omitempty"`
	Index     *int   `json:"index,omitempty"`
}

// Region is a part of a text file (3.30). Lines and columns count from 1;
// EndColumn is the column behind the last character.
type Region struct {
	StartLine   int `json:"startLine,omitempty"`
	StartColumn int `json:"startColumn,omitempty"`
	EndLine     int `json:"endLine,omitempty"`
	EndColumn   int `json:"endColumn,omitempty"`
}
