package sieve

import (
	"net/url"
	"path"
	"strings"
)

// folders knows in which folder a tool runs that prints relative paths: where
// the task runs, and where make says that it went (GNU make manual, section
// "The --print-directory Option").
type folders struct {
	entered []enteredFolder
}

type enteredFolder struct {
	dir string
	// file is the last relative path given to this folder. Jobs that run side
	// by side interleave, but one folder's compiler finishes a file before the
	// next: a file that is new goes to the newest folder without one.
	file string
}

func (d *folders) enter(dir string) {
	if len(d.entered) < 1024 {
		d.entered = append(d.entered, enteredFolder{dir: dir})
	}
}

func (d *folders) leave(dir string) {
	for i := len(d.entered) - 1; i >= 0; i-- {
		if d.entered[i].dir == dir {
			d.entered = append(d.entered[:i], d.entered[i+1:]...)
			return
		}
	}
}

// at gives the folder of a relative path that was printed.
func (d *folders) at(file string, o *Options) string {
	n := len(d.entered)
	if n == 0 {
		return o.Dir
	}
	if o.Exists != nil {
		for i := n - 1; i >= 0; i-- {
			if o.Exists(path.Join(d.entered[i].dir, file)) {
				return d.entered[i].dir
			}
		}
	}
	return d.entered[n-1].dir
}

// resolve turns a printed path into the one that stands in a place: relative
// to Options.Root where it lies below, with slashes, without dots.
func (d *folders) resolve(printed string, o *Options) string {
	if printed == "" || printed[0] == '<' {
		return printed
	}
	if rest, ok := strings.CutPrefix(printed, "file://"); ok {
		if i := strings.IndexByte(rest, '/'); i >= 0 {
			rest = rest[i:]
		}
		if p, err := url.PathUnescape(rest); err == nil {
			printed = p
		}
	}
	p := printed
	if !absolute(p) {
		p = path.Join(d.at(p, o), p)
	} else if p[0] == '/' {
		p = path.Clean(p)
	}
	if o.Root != "" {
		if rest, ok := strings.CutPrefix(p, strings.TrimSuffix(o.Root, "/")+"/"); ok {
			return rest
		}
	}
	return p
}

func absolute(p string) bool {
	return p[0] == '/' || len(p) > 2 && p[1] == ':' && isLetter(p[0]) && (p[2] == '\\' || p[2] == '/')
}
