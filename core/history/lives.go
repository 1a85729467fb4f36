package history

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"fmt"
	"io"
	"runtime"
	"sync"

	"tidytally/core/problem"
	"tidytally/core/reach"
)

// Lived is a problem with its life: the runs that reported it.
type Lived struct {
	Problem problem.Problem
	// LineText is the source line at the time of the run.
	LineText string
	State    problem.State
	First    int64 // the run that reported it first
	Last     int64 // and last
	Seen     int   // by so many runs
	// Report is how the last of them came to report it.
	Report reach.Report
}

// stored is a Lived on its way to the store.
type stored struct {
	Problem  json.RawMessage `json:"problem"`
	LineText string          `json:"text,omitempty"`
	State    int             `json:"state"`
	First    int64           `json:"first"`
	Last     int64           `json:"last"`
	Seen     int             `json:"seen"`
	Report   reach.Report    `json:"report,omitzero"`
}

// maxLives bounds the size in bytes of the problems of one run when they are read.
const maxLives = 256 << 20

func packLives(lives []Lived) []byte {
	var b bytes.Buffer
	z, _ := gzip.NewWriterLevel(&b, gzip.BestSpeed) // the level is one
	enc := json.NewEncoder(z)
	for i := range lives {
		l := &lives[i]
		_ = enc.Encode(stored{l.Problem.AppendJSON(nil), l.LineText, int(l.State), l.First, l.Last, l.Seen, l.Report}) // into memory
	}
	_ = z.Close()
	return b.Bytes()
}

// readLife is stored, with its problem decoded.
type readLife struct {
	stored
	Problem problem.Problem `json:"problem"`
}

func unpackLives(data []byte) (lives []Lived, err error) {
	if len(data) == 0 {
		return nil, nil
	}
	z, err := gzip.NewReader(bytes.NewReader(data))
	if err != nil {
		return nil, fmt.Errorf("problems: %w", err)
	}
	text, err := io.ReadAll(io.LimitReader(z, maxLives))
	if err != nil {
		return nil, fmt.Errorf("problems: %w", err)
	}
	lines := bytes.Split(bytes.TrimSuffix(text, []byte("\n")), []byte("\n"))
	lives = make([]Lived, len(lines))
	errs := make([]error, len(lines))
	// Each is decoded by itself: ten thousand take a tenth of a second otherwise.
	parts := max(1, min(runtime.GOMAXPROCS(0), len(lines)/leastPart))
	var work sync.WaitGroup
	for part := range parts {
		work.Go(func() {
			for i := part * len(lines) / parts; i < (part+1)*len(lines)/parts; i++ {
				var r readLife
				if errs[i] = json.Unmarshal(lines[i], &r); errs[i] != nil {
					return
				}
				r.Problem.LineText = r.LineText
				lives[i] = Lived{Problem: r.Problem, LineText: r.LineText, State: problem.State(r.State), First: r.First, Last: r.Last, Seen: r.Seen, Report: r.Report}
			}
		})
	}
	work.Wait()
	for _, err := range errs {
		if err != nil {
			return nil, fmt.Errorf("problems: %w", err)
		}
	}
	return lives, nil
}

// leastPart is the number of problems that are worth a goroutine.
const leastPart = 200
