package draft

import (
	_ "embed"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/pelletier/go-toml/v2"

	"tidytally/core/files"
	"tidytally/core/tallyfile"
	"tidytally/core/task"
	"tidytally/core/toolchain"
)

// A Point is a starting point as it is written in a file.
type Point struct {
	Name  string   `toml:"name"`
	About string   `toml:"about"`
	For   []string `toml:"for"`   // patterns of the current file for which it is offered; none for all
	Each  string   `toml:"each"`  // compile, check or run: it is offered for each tool for the current file that does so
	Needs []string `toml:"needs"` // programs of which one must be on the path, which is <tool>
	Ask   []Ask    `toml:"ask"`
	Text  string   `toml:"text"` // TOML with <NAME> for values
}

// Ask is a value that a starting point asks for.
type Ask struct {
	Name    string `toml:"name"`
	About   string `toml:"about"`
	Default string `toml:"default"`
}

// UserPoints is the name of the file with the user's own starting points, beside their own tally
// file.
const UserPoints = "starting-points.toml"

//go:embed points.toml
var builtIn []byte

// maxPoints is the size in bytes from which a file of starting points is not read.
const maxPoints = 1 << 20

// Points returns the starting points: the user's own, from a file that need not be there, and those
// that come with the program. The error is about the user's file; the others are returned
// all the same.
func Points(userFile string) (points []Point, err error) {
	read := func(name string, data []byte) error {
		var f struct {
			Point []Point `toml:"point"`
		}
		d := toml.NewDecoder(strings.NewReader(string(data)))
		d.DisallowUnknownFields()
		if err := d.Decode(&f); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		for i := range f.Point {
			if p := &f.Point[i]; p.Name == "" || p.Text == "" {
				return fmt.Errorf("%s: [[point]] number %d needs name and text", name, i+1)
			}
		}
		points = append(points, f.Point...)
		return nil
	}
	if data, readErr := files.Read(userFile, maxPoints); readErr == nil {
		err = read(userFile, data)
	} else if !errors.Is(readErr, fs.ErrNotExist) {
		err = fmt.Errorf("%s: %w", userFile, readErr)
	}
	if builtErr := read("points.toml", builtIn); err == nil {
		err = builtErr
	}
	return points, err
}

// An Offer is a starting point, filled with what is there.
type Offer struct {
	Name  string // with the tool or the file: "compile coil.c with gcc"
	About string
	Asks  []Ask
	text  string
	known map[string]string
}

// Offers fills starting points for a current file, relative to the workspace or "", else for a
// folder. Programs are looked for on a path, a list of folders; nothing is executed.
func Offers(points []Point, file, folder, searchPath string) (offers []Offer) {
	tools := toolchain.Tasks(file, searchPath)
	if file != "" {
		folder = path.Dir(file)
	}
	base := path.Base(file)
	ext := strings.TrimPrefix(path.Ext(base), ".")
	known := map[string]string{
		"file": file, "base": base, "stem": strings.TrimSuffix(base, "."+ext), "ext": ext, "folder": folder,
	}
	with := func(more map[string]string) map[string]string {
		all := map[string]string{}
		for _, m := range []map[string]string{known, more} {
			for k, v := range m {
				all[k] = v
			}
		}
		return all
	}
	offer := func(p *Point, name string, values map[string]string) {
		about := p.About
		for k, v := range values {
			about = strings.ReplaceAll(about, "<"+k+">", v)
		}
		offers = append(offers, Offer{name, about, p.Ask, p.Text, values})
	}
	for i := range points {
		p := &points[i]
		matches := func(pattern string) bool {
			ok, _ := doublestar.Match(pattern, base)
			return ok && file != ""
		}
		if len(p.For) > 0 && !slices.ContainsFunc(p.For, matches) {
			continue
		}
		switch {
		case p.Each != "":
			for _, t := range tools {
				if verb, _, _ := strings.Cut(t.Name, " "); verb == p.Each {
					tool := t.Command.Argv[0]
					quoted := make([]string, len(t.Command.Argv))
					for i, w := range t.Command.Argv {
						quoted[i] = `"` + tallyfile.InQuotes(w) + `"`
					}
					offer(p, strings.ReplaceAll(p.Name, "this file", base)+" with "+tool, with(map[string]string{"tool": tool, "command": "[" + strings.Join(quoted, ", ") + "]"}))
				}
			}
		case len(p.Needs) > 0:
			for _, program := range p.Needs {
				if toolchain.Find(program, searchPath) != "" {
					offer(p, p.Name, with(map[string]string{"tool": program}))
					break
				}
			}
		default:
			offer(p, p.Name, with(nil))
		}
	}
	return offers
}

// Draft fills the offer with the values that were asked for.
func (o *Offer) Draft(answers map[string]string) (*Draft, error) {
	text := o.text
	var pairs []string
	for name, value := range o.known {
		pairs = append(pairs, "<"+name+">", value)
		if name != "command" { // which is TOML already
			pairs[len(pairs)-1] = tallyfile.InQuotes(value)
		}
	}
	for _, a := range o.Asks {
		value, given := answers[a.Name]
		if !given || value == "" {
			value = a.Default
		}
		if value == "" {
			return nil, fmt.Errorf("%s needs %s: %s", o.Name, a.Name, a.About)
		}
		pairs = append(pairs, "<"+a.Name+">", tallyfile.InQuotes(value))
	}
	d, err := parse(strings.TrimLeft(strings.NewReplacer(pairs...).Replace(text), "\n"))
	if err != nil {
		return nil, fmt.Errorf("starting point %s: %w", o.Name, err)
	}
	if in := d.Values["in"]; in == "." || in == "" {
		delete(d.Values, "in")
	}
	d.tidy()
	return d, nil
}

// tidy gives a task of the workspace's root a name without a dot.
func (d *Draft) tidy() {
	if rest, ok := strings.CutSuffix(d.Name(), " ."); ok && len(d.Table) == 2 {
		d.Table = []string{d.Table[0], rest}
	}
}

// FreeName returns a name for a task that no other task of a tally file has: name itself, or it with a
// number.
func FreeName(name, file string, tasks []*task.Task) string {
	taken := func(name string) bool {
		return slices.ContainsFunc(tasks, func(t *task.Task) bool { return t.File == file && t.Name == name })
	}
	free := name
	for n := 2; taken(free); n++ {
		free = fmt.Sprintf("%s %d", name, n)
	}
	return free
}
