// Package lexers finds the lexer of a source file by its name. The lexers are data of the
// chroma library (see LICENSE), but for go.xml, which is ours: there it is code. They are
// read when the first file is coloured, because the library's own table costs sixteen
// milliseconds at each start of the program.
package lexers

import (
	"embed"
	"io/fs"
	"sync"

	"github.com/alecthomas/chroma/v2"
)

//go:embed *.xml
var files embed.FS

var registry = sync.OnceValue(func() *chroma.LexerRegistry {
	r := chroma.NewLexerRegistry()
	names, _ := fs.Glob(files, "*.xml") // the pattern is right
	for _, name := range names {
		if l, err := chroma.NewXMLLexer(files, name); err == nil {
			r.Register(l)
		}
	}
	return r
})

// Match returns the lexer for a file, by its name; nil if there is none.
func Match(name string) chroma.Lexer { return registry().Match(name) }
