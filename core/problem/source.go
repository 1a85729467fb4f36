package problem

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"time"

	"tidytally/core/files"
)

const (
	// maxSourceFile is the size in bytes of the largest file whose lines are read:
	// larger ones are generated.
	maxSourceFile = 4 << 20
	// maxSources is the number of bytes of files that are cached.
	maxSources = 64 << 20
	// maxSourceLine is the length in bytes to which a line is cut: enough to tell
	// lines apart.
	maxSourceLine = 400
)

// Sources returns the text of lines of source files. It is not safe for concurrent
// use.
type Sources struct {
	Root  string // absolute; relative paths start there
	files map[string]*sourceFile
	held  int
}

type sourceFile struct {
	size  int64
	time  time.Time
	lines [][]byte
}

// Line returns a line of a file, counted from 1, without the white space around it;
// "" if there is none, or if the file is too large or not text.
func (s *Sources) Line(file string, line int) string {
	if file == "" || line < 1 {
		return ""
	}
	if !filepath.IsAbs(file) {
		file = filepath.Join(s.Root, filepath.FromSlash(file))
	}
	f := s.file(file)
	if f == nil || line > len(f.lines) {
		return ""
	}
	return TrimSource(string(f.lines[line-1]))
}

// TrimSource returns a source line without the white space around it, cut to the
// length that is compared.
func TrimSource(line string) string {
	line = strings.TrimSpace(line)
	if len(line) > maxSourceLine {
		line = line[:maxSourceLine]
	}
	return strings.ToValidUTF8(line, "\ufffd")
}

func (s *Sources) file(name string) *sourceFile {
	info, err := os.Stat(name)
	if err != nil || !info.Mode().IsRegular() || info.Size() > maxSourceFile {
		return nil
	}
	if f := s.files[name]; f != nil {
		if f.size == info.Size() && f.time.Equal(info.ModTime()) {
			return f
		}
		s.held -= int(f.size)
	}
	if s.files == nil || s.held+int(info.Size()) > maxSources {
		s.files, s.held = map[string]*sourceFile{}, 0
	}
	data, err := files.Read(name, maxSourceFile)
	if err != nil {
		return nil
	}
	f := &sourceFile{size: info.Size(), time: info.ModTime(), lines: bytes.Split(data, []byte("\n"))}
	s.files[name] = f
	s.held += int(f.size)
	return f
}

// FindLine returns the line with a text that is nearest to where the text was. Lines
// count from 1; 0 means that the text is gone.
func FindLine(lines []string, text string, was int) int {
	if text == "" {
		return 0
	}
	for d := 0; d <= len(lines)+was; d++ {
		for _, n := range []int{was - d, was + d} {
			if n >= 1 && n <= len(lines) && TrimSource(lines[n-1]) == text {
				return n
			}
		}
		if was-d < 1 && was+d > len(lines) {
			break
		}
	}
	return 0
}

// A problem is a filter.Subject.

// FilterFields are the fields that problems can be filtered by.
var FilterFields = []string{"file", "code", "sev", "is"}

// Field returns a problem's texts for a filter's field.
func (p *Problem) Field(name string) ([]string, bool) {
	switch name {
	case "file":
		return []string{p.File}, true
	case "code":
		return []string{p.Code}, true
	case "sev":
		return []string{p.Severity.String()}, true
	case "is":
		return nil, true // whether it is new depends on the run before
	}
	return nil, false
}

// Title is the text that a filter's words are searched in first.
func (p *Problem) Title() string { return p.Message }

// Rest are the other texts that a word is searched in.
func (p *Problem) Rest() []string { return []string{p.File, p.Code} }
