package learn

import (
	"bytes"
	"go/parser"
	"go/token"
	"io"
	"path"
	"slices"

	"github.com/cespare/xxhash/v2"

	"tidytally/core/files"
	"tidytally/internal/lazyregexp"
)

// A source file tells a compiler what else to read in a few kinds of lines. While these stay as they were, a run that was
// not watched has read the files that the last watched one did.

// languages are those whose references are known, by the endings of their files. Each function adds what may refer to
// another file to a hash; false where that cannot be known.
var languages = []struct {
	endings []string
	refer   func(text []byte, h *xxhash.Digest) bool
}{
	{[]string{".c", ".h", ".cc", ".cpp", ".cxx", ".c++", ".hh", ".hpp", ".hxx", ".h++", ".inc", ".inl", ".ipp", ".tpp", ".m", ".mm", ".s", ".S"}, referencesOfC},
	{[]string{".go"}, referencesOfGo},
	{[]string{".rs"}, referencesOfRust},
}

// maxReferences is the size in bytes up to which a source file is looked at for what it refers to.
const maxReferences = 4 << 20

// referencesIn returns a hash of what may say in a source file what else a compiler reads, never 0; 0 if that
// is not known of this file.
func referencesIn(name string) uint64 {
	at := -1
	for i := range languages {
		if slices.Contains(languages[i].endings, path.Ext(name)) {
			at = i
		}
	}
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
	h := xxhash.New()
	if !languages[at].refer(text, h) {
		return 0
	}
	return max(leastHash, h.Sum64())
}

// add adds a line to a hash: blanks do not count.
func add(h *xxhash.Digest, line []byte) {
	for field := range bytes.FieldsSeq(line) {
		_, _ = h.Write(field) // it cannot fail
		_, _ = h.Write([]byte{' '})
	}
	_, _ = h.Write([]byte{'\n'})
}

// refersOutsideDirectives matches what reads a file outside of directives: modules, and the directives of an assembler.
var refersOutsideDirectives = lazyregexp.New(`\b(import|module|incbin|_Pragma|include|embed)\b`)

// referencesOfC takes the directives of the preprocessor (C11, 6.10; of C++ modules and of an assembler, what may be one), without the
// comments.
func referencesOfC(text []byte, h *xxhash.Digest) bool {
	text = bytes.ReplaceAll(bytes.ReplaceAll(text, []byte("\\\r\n"), nil), []byte("\\\n"), nil) // lines that are joined
	for line := range bytes.Lines(withoutComments(text, false)) {
		if start := bytes.TrimLeft(line, " \t\f\v"); bytes.HasPrefix(start, []byte("#")) || bytes.HasPrefix(start, []byte("%:")) || bytes.HasPrefix(start, []byte("??=")) || refersOutsideDirectives().Match(line) {
			add(h, line)
		}
	}
	return true
}

// referencesOfGo takes all to the end of the imports, with what is written for cgo, and the directives (go help packages; package embed).
func referencesOfGo(text []byte, h *xxhash.Digest) bool {
	set := token.NewFileSet()
	f, err := parser.ParseFile(set, "", text, parser.ImportsOnly)
	if err != nil {
		return false
	}
	end := set.Position(f.Name.End()).Offset
	for _, d := range f.Decls {
		end = set.Position(d.End()).Offset
	}
	add(h, text[:end])
	for line := range bytes.Lines(text[end:]) {
		if bytes.HasPrefix(line, []byte("//go:")) || bytes.HasPrefix(line, []byte("//line ")) {
			add(h, line)
		}
	}
	return true
}

var (
	// refersInRust matches what may name a file (The Rust Reference: modules, extern crates, attributes, inclusion macros).
	refersInRust = lazyregexp.New(`\b(mod|extern|include\w*|path|macro_rules|env|option_env)\b|#!?\[`)
	// macroOfRust matches the call of a macro.
	macroOfRust = lazyregexp.New(`\b([A-Za-z_]\w*)!`)
)

// plainMacros are the macros of Rust's library that read no file.
var plainMacros = func() map[string]bool {
	set := map[string]bool{}
	for name := range bytes.FieldsSeq([]byte("print println eprint eprintln format format_args write writeln vec assert assert_eq assert_ne debug_assert debug_assert_eq debug_assert_ne panic todo unimplemented unreachable matches dbg concat stringify line column file module_path cfg thread_local")) {
		set[string(name)] = true
	}
	return set
}()

func referencesOfRust(text []byte, h *xxhash.Digest) bool {
	for line := range bytes.Lines(withoutComments(text, true)) {
		refers := refersInRust().Match(line)
		for _, m := range macroOfRust().FindAllSubmatch(line, -1) {
			refers = refers || !plainMacros[string(m[1])]
		}
		if refers {
			add(h, line)
		}
	}
	return true
}

// withoutComments returns the text of a source in C, C++ or Rust with each comment as one blank; the ends of lines in
// it stay. Those of Rust are nested.
func withoutComments(text []byte, rust bool) []byte {
	out := make([]byte, 0, len(text))
	for i := 0; i < len(text); {
		rest := text[i:]
		n := 1
		switch c := text[i]; {
		case bytes.HasPrefix(rest, []byte("//")):
			if n = bytes.IndexByte(rest, '\n'); n < 0 {
				n = len(rest)
			}
			out = append(out, ' ')
			i += n
			continue
		case bytes.HasPrefix(rest, []byte("/*")):
			n = blockComment(rest, rust)
			out = append(out, ' ')
			out = append(out, bytes.Repeat([]byte{'\n'}, bytes.Count(rest[:n], []byte{'\n'}))...)
			i += n
			continue
		case c == '"':
			if n = rawString(text, i, rust); n == 0 {
				n = quoted(rest, '"', rust)
			}
		case c == '\'' && (!rust || len(rest) > 2 && (rest[1] == '\\' || rest[2] == '\'')): // 'a is a lifetime
			n = quoted(rest, '\'', false)
		}
		out = append(out, rest[:n]...)
		i += n
	}
	return out
}

// blockComment returns the length of a comment.
func blockComment(text []byte, nested bool) int {
	depth := 0
	for i := 0; i+1 < len(text); i++ {
		switch {
		case text[i] == '*' && text[i+1] == '/':
			if i++; depth == 1 {
				return i + 1
			}
			depth--
		case text[i] == '/' && text[i+1] == '*' && (nested || depth == 0):
			depth++
			i++
		}
	}
	return len(text)
}

// quoted returns the length of a text in quotes, or to the end of its line unless it may have several.
func quoted(text []byte, end byte, lines bool) int {
	for i := 1; i < len(text); i++ {
		switch text[i] {
		case '\\':
			i++
		case end:
			return i + 1
		case '\n':
			if !lines {
				return i
			}
		}
	}
	return len(text)
}

// rawString returns the length of a raw string from its quotation mark at i on; 0 if it is none: R"x(…)x" of C++, r#"…"# of Rust.
func rawString(text []byte, i int, rust bool) int {
	rest := text[i:]
	var end []byte
	if rust {
		hashes := 0
		for i > hashes && text[i-hashes-1] == '#' {
			hashes++
		}
		if i == hashes || text[i-hashes-1] != 'r' {
			return 0
		}
		end = append([]byte{'"'}, bytes.Repeat([]byte{'#'}, hashes)...)
	} else {
		open := bytes.IndexByte(rest[:min(len(rest), 18)], '(')
		if i == 0 || text[i-1] != 'R' || open < 0 {
			return 0
		}
		end = slices.Concat([]byte{')'}, rest[1:open], []byte{'"'})
	}
	n := bytes.Index(rest[1:], end)
	if n < 0 {
		return len(rest)
	}
	return 1 + n + len(end)
}
