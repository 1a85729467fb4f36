// Package demo ships the emberclay workspace: the software of a pottery
// studio, all made up, with mistakes in it that can be found and mended.
package demo

import (
	"bytes"
	"embed"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
)

//go:embed all:_emberclay
var embedded embed.FS

// asIs is cut from the end of a name: Go would not embed a folder with a
// go.mod in it.
const asIs = ".in"

// Lay writes the workspace into dir, which it makes if it is missing. If a file
// exists already, that is an error, and the file is not changed.
func Lay(dir string) error {
	return fs.WalkDir(embedded, "_emberclay", func(name string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		to := filepath.Join(dir, strings.TrimPrefix(strings.TrimSuffix(name, asIs), "_emberclay"))
		if e.IsDir() {
			return os.MkdirAll(to, 0o755)
		}
		data, err := embedded.ReadFile(name)
		if err != nil {
			return err
		}
		mode := fs.FileMode(0o644)
		if bytes.HasPrefix(data, []byte("#!")) {
			mode = 0o755
		}
		f, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode)
		if err != nil {
			return fmt.Errorf("laying out the demo: %w; give an empty folder with --dir", err)
		}
		if _, err := f.Write(data); err != nil {
			f.Close()
			return err
		}
		return f.Close()
	})
}

// A Fix corrects one of the mistakes in the demo.
type Fix struct {
	About    string
	File     string
	Old, New string
}

// Fixes are the corrections of the kiln's firmware, in the order of the tour.
var Fixes = []Fix{
	{"nobody uses elapsed", "kiln/src/coil.c", "\tint elapsed = 0;\n", ""},
	{"the readings are counted by an int", "kiln/src/coil.c", "int i = 0; i < count", "unsigned int i = 0; i < count"},
	{"the member of struct coil is called duty_min", "kiln/src/coil.c", "c->duty < c->duty_max", "c->duty < c->duty_min"},
	{
		"coil_mean is declared, but nobody wrote it", "kiln/src/coil.c", "void coil_step(",
		"int coil_mean(const int *temps, int count)\n{\n\treturn mean(temps, (unsigned int)count);\n}\n\nvoid coil_step(",
	},
}

// Apply mends the mistake in the workspace at dir.
func (f Fix) Apply(dir string) error {
	name := filepath.Join(dir, filepath.FromSlash(f.File))
	data, err := os.ReadFile(name)
	if err != nil {
		return err
	}
	if !bytes.Contains(data, []byte(f.Old)) || f.New != "" && bytes.Contains(data, []byte(f.New)) {
		return fmt.Errorf("%s: nothing to mend: %s", f.File, f.About)
	}
	return os.WriteFile(name, bytes.Replace(data, []byte(f.Old), []byte(f.New), 1), 0o644)
}
