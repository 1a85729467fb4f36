package history

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"fmt"
	"io"

	"tidytally/core/problem"
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
}

// stored is a Lived on its way to the store.
type stored struct {
	Problem  json.RawMessage `json:"problem"`
	LineText string          `json:"text,omitempty"`
	State    int             `json:"state"`
	First    int64           `json:"first"`
	Last     int64           `json:"last"`
	Seen     int             `json:"seen"`
}

// maxLives bounds the size in bytes of the problems of one run when they are read.
const maxLives = 256 << 20

func packLives(lives []Lived) []byte {
	var b bytes.Buffer
	z, _ := gzip.NewWriterLevel(&b, gzip.BestSpeed) // the level is one
	enc := json.NewEncoder(z)
	for i := range lives {
		l := &lives[i]
		_ = enc.Encode(stored{l.Problem.AppendJSON(nil), l.LineText, int(l.State), l.First, l.Last, l.Seen}) // into memory
	}
	_ = z.Close()
	return b.Bytes()
}

func unpackLives(data []byte) (lives []Lived, err error) {
	if len(data) == 0 {
		return nil, nil
	}
	z, err := gzip.NewReader(bytes.NewReader(data))
	if err != nil {
		return nil, fmt.Errorf("problems: %w", err)
	}
	dec := json.NewDecoder(io.LimitReader(z, maxLives))
	for {
		var s stored
		if err := dec.Decode(&s); err == io.EOF {
			return lives, nil
		} else if err != nil {
			return nil, fmt.Errorf("problems: %w", err)
		}
		l := Lived{LineText: s.LineText, State: problem.State(s.State), First: s.First, Last: s.Last, Seen: s.Seen}
		if err := json.Unmarshal(s.Problem, &l.Problem); err != nil {
			return nil, fmt.Errorf("problems: %w", err)
		}
		l.Problem.LineText = s.LineText
		lives = append(lives, l)
	}
}
