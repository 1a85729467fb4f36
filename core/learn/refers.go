package learn

import (
	"bytes"
	"io"
	"path"
	"slices"

	"github.com/cespare/xxhash/v2"

	"tidytally/core/files"
)

// A source file tells a compiler what else to read in a few kinds of lines. While these stay as they were, a run that was
// not watched has read the files that the last watched one did.

// references are the lines of a language that may say what else is read.
type references struct {
	endings []string
	words   []string // a line with one of these counts
	joins   bool     // a backslash at its end joins a line to the next one
}

var languages = []references{
	{
		endings: []string{".c", ".h", ".cc", ".cpp", ".cxx", ".c++", ".hh", ".hpp", ".hxx", ".h++", ".inc", ".inl", ".ipp", ".tpp", ".m", ".mm", ".s", ".S"},
		// A comment or a raw string may begin or end around an include.
		words: []string{"#", "%:", "??=", "include", "import", "module", "embed", "incbin", "_Pragma", "/*", "*/", `R"`, `)"`},
		joins: true,
	},
	{endings: []string{".go"}, words: []string{`"`, "`", "//go:", "+build", "import", "package", "#", "/*", "*/"}},
	{endings: []string{".rs"}, words: []string{"mod", "use", "extern", "include", "path", "!", "#", `"`, "/*", "*/"}},
}

// maxReferences is the size in bytes up to which a source file is looked at for what it refers to.
const maxReferences = 4 << 20

// referencesIn returns a hash of the lines of a source file that may say what else a compiler reads, never 0; 0 if that
// is not known of a file of this kind.
func referencesIn(name string) uint64 {
	at := slices.IndexFunc(languages, func(l references) bool { return slices.Contains(l.endings, path.Ext(name)) })
	if at < 0 {
		return 0
	}
	f, info, err := files.Open(name)
	if err != nil || info.Size() > maxReferences {
		return 0
	}
	defer f.Close()
	text, err := io.ReadAll(io.LimitReader(f, maxReferences))
	if err != nil {
		return 0
	}
	return languages[at].hash(text)
}

func (l *references) hash(text []byte) uint64 {
	h := xxhash.New()
	joined := false
	for line := range bytes.Lines(text) {
		counts := joined || slices.ContainsFunc(l.words, func(w string) bool { return bytes.Contains(line, []byte(w)) })
		if counts {
			_, _ = h.Write(bytes.TrimSpace(line)) // it cannot fail
			_, _ = h.Write([]byte{'\n'})
		}
		joined = counts && l.joins && bytes.HasSuffix(bytes.TrimRight(line, " \t\r\n"), []byte(`\`))
	}
	return max(leastHash, h.Sum64())
}
