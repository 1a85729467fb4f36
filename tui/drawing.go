package tui

import (
	"bytes"
	"io"
	"os"
	"strings"

	tea "charm.land/bubbletea/v2"

	"tidytally/core/draw"
)

// drawing is an answer that draws into a new file at the workspace's root.
func (d *desk) drawing(name, about string, make func(io.Writer, draw.Paper) error) answer {
	return answer{name, about, func() tea.Cmd {
		format, err := draw.FormatOf(name)
		var b bytes.Buffer
		if err == nil {
			err = make(&b, draw.Paper{Format: format})
		}
		if err == nil {
			var f *os.File
			if f, err = os.OpenFile(d.absolute(name), os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644); err == nil {
				_, err = f.Write(b.Bytes())
				if closed := f.Close(); err == nil {
					err = closed
				}
			}
		}
		if err != nil {
			d.say(true, "%v", err)
		} else {
			d.say(false, "written to %s", d.absolute(name))
		}
		return nil
	}}
}

// fileWord makes a part of a file's name of a task's.
func fileWord(name string) string {
	return strings.Map(func(r rune) rune {
		if r == '/' || r == ' ' || r == '#' || r < ' ' {
			return '-'
		}
		return r
	}, name)
}
