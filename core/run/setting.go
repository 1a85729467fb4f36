package run

import (
	"os"
	"path/filepath"
	"slices"
	"strings"

	"tidytally/core/learn"
	"tidytally/core/task"
	"tidytally/internal/lazyregexp"
)

// named matches the variables that a command, a script or a recipe names: $NAME, ${NAME, $(NAME.
var named = lazyregexp.New(`\$[({]?([A-Za-z_][A-Za-z0-9_]*)`)

// steering are variables that tools go by though no command names them.
var steering = []string{
	"PATH", "LANG", "LC_ALL", "MAKEFLAGS", "CC", "CXX", "CPPFLAGS", "CFLAGS", "CXXFLAGS", "LDFLAGS", "LDLIBS", "CPATH", "LIBRARY_PATH", "LD_LIBRARY_PATH", "PKG_CONFIG_PATH",
	"GOOS", "GOARCH", "GOFLAGS", "GOWORK", "CGO_ENABLED", "CGO_CFLAGS", "CGO_LDFLAGS", "RUSTFLAGS", "CARGO_TARGET_DIR", "NODE_ENV", "NODE_OPTIONS", "NODE_PATH",
	"PYTHONPATH", "PYTHONHASHSEED", "VIRTUAL_ENV", "JAVA_HOME", "CLASSPATH", "RUBYLIB", "RUBYOPT", "SOURCE_DATE_EPOCH", "TZ",
}

// SettingOf returns a function that returns the setting of a run of a task without further arguments, as
// plan.OutlookOf asks for it.
func (c *Context) SettingOf(t *task.Task) func() (learn.Setting, error) {
	return func() (learn.Setting, error) {
		p, err := c.Prepare(t, nil)
		if err != nil {
			return learn.Setting{}, err
		}
		return p.Setting(), nil
	}
}

// Now returns the setting of a run, as plan.OutlookOf asks for it.
func (p *Prepared) Now() (learn.Setting, error) { return p.Setting(), nil }

// Setting returns what a run of the command is given besides files, so that it can be compared with
// that of another run.
func (p *Prepared) Setting() learn.Setting {
	s := learn.Setting{Command: learn.HashOf(p.Display), Dir: p.Dir, Env: map[string]uint64{}}
	for _, v := range p.Env {
		name, value, _ := strings.Cut(v, "=")
		s.Env[name] = learn.HashOf(value)
	}
	names := slices.Clone(steering)
	for _, text := range []string{p.Command.String(), p.Task.Script} {
		for _, m := range named().FindAllStringSubmatch(text, -1) {
			names = append(names, m[1])
		}
	}
	for _, name := range names {
		if _, own := s.Env[name]; own {
			continue
		}
		if value, set := os.LookupEnv(name); set {
			s.Env[name] = learn.HashOf(value)
		}
	}
	return s
}

// variable returns the value of a variable of the environment that the command gets; "" if it is not set.
func (p *Prepared) variable(name string) string {
	for _, v := range slices.Backward(p.Env) {
		if key, value, _ := strings.Cut(v, "="); key == name {
			return value
		}
	}
	return os.Getenv(name)
}

// Launches returns the file that the command executes, absolute, where that can be seen; else "".
func (p *Prepared) Launches() string {
	words := p.Command.Argv
	if len(words) == 0 {
		var err error
		if words, err = task.SplitWords(p.Command.Shell); err != nil {
			return ""
		}
	}
	if len(words) == 0 || !strings.Contains(words[0], "/") {
		return ""
	}
	if filepath.IsAbs(words[0]) {
		return filepath.Clean(words[0])
	}
	return filepath.Join(p.Dir, filepath.FromSlash(words[0]))
}
