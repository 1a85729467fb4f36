package main

import (
	"fmt"
	"os"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"tidytally/core/task"
)

// The flags of every command, usage errors, and the version.

// shared are the flags that every command has.
type shared struct {
	dir     string
	colour  string
	noColor bool
	log     string
}

// add gives a command and those below it the flags.
func (f *shared) add(root *cobra.Command) {
	flags := root.PersistentFlags()
	flags.StringVarP(&f.dir, "directory", "C", "", "do all as if called in `DIR`")
	flags.StringVar(&f.colour, "color", "auto", "colours: `WHEN` is auto, always or never")
	flags.BoolVar(&f.noColor, "no-color", false, "no colours, as --color never")
	flags.StringVar(&f.log, "log", "", "append what the program does to `FILE`, for reports of faults")
	flags.Bool("version", false, "say which build this is, and do nothing")
	_ = root.RegisterFlagCompletionFunc("color", cobra.FixedCompletions([]string{"auto", "always", "never"}, cobra.ShellCompDirectiveNoFileComp)) // the flag is there
	_ = root.MarkPersistentFlagDirname("directory")                                                                                               // likewise
}

// apply does what the flags say.
func (f *shared) apply(*cobra.Command, []string) error {
	when := f.colour
	if f.noColor {
		when = "never"
	}
	switch when {
	case "auto":
	case "never":
		os.Setenv("NO_COLOR", "1") // tasks print without colours too, if they can
	case "always":
		os.Unsetenv("NO_COLOR")
		os.Setenv("CLICOLOR_FORCE", "1")
	default:
		return usageError("--color %s: use auto, always or never", f.colour)
	}
	if f.dir != "" {
		if err := os.Chdir(f.dir); err != nil {
			return usageError("-C %s: %v", f.dir, pathCause(err))
		}
	}
	return logTo(f.log)
}

// pathCause is what is wrong with a path, without the path and the name of a system call.
func pathCause(err error) error {
	if path, ok := err.(*os.PathError); ok {
		return path.Err
	}
	return err
}

// badFlag says which flag may have been meant.
func badFlag(c *cobra.Command, err error) error {
	text := err.Error()
	if name, ok := strings.CutPrefix(text, "unknown flag: --"); ok {
		var names []string
		add := func(f *pflag.Flag) { names = append(names, f.Name) }
		c.Flags().VisitAll(add)
		c.InheritedFlags().VisitAll(add)
		if near, ok := task.Nearest(name, names); ok {
			text += "; did you mean --" + near + "?"
		}
	}
	return usageError("%s", text)
}

// takes checks that a call has a number of arguments, which are named in the message.
func takes(least, most int, what string) cobra.PositionalArgs {
	return func(c *cobra.Command, args []string) error {
		switch {
		case len(args) < least:
			return usageError("%s needs %s", c.Name(), what)
		case len(args) > most && what == "":
			return usageError("%s takes no arguments, and %q was given", c.Name(), args[most])
		case len(args) > most:
			return usageError("%s takes %s, and no %q behind it", c.Name(), what, args[most])
		}
		return nil
	}
}

// knownFolder returns an error that names the nearest command if an argument in the place of one
// is no folder.
func knownFolder(root *cobra.Command, dir string) error {
	_, err := os.Stat(dir)
	if err == nil {
		return nil
	}
	var names []string
	for _, c := range root.Commands() {
		names = append(names, c.Name())
	}
	text := fmt.Sprintf("%s is no command, and no folder: %v", dir, pathCause(err))
	if near, ok := task.Nearest(dir, names); ok && !strings.ContainsRune(dir, filepath.Separator) {
		text += fmt.Sprintf("; did you mean tidytally %s?", near)
	}
	return usageError("%s", text)
}

// newHelp replaces cobra's help command, which takes an unknown word for the name of all.
func newHelp(root *cobra.Command) *cobra.Command {
	return &cobra.Command{
		Use:   "help [COMMAND]",
		Short: "Tell about a command",
		RunE: func(_ *cobra.Command, args []string) error {
			of, rest, err := root.Find(args)
			if err == nil && len(rest) > 0 && of == root {
				err = knownFolder(root, rest[0])
			}
			if err != nil {
				return err
			}
			of.InitDefaultHelpFlag()
			return of.Help()
		},
	}
}

// wantsVersion reports whether a call asks for the version. It is not left to cobra, whose way
// needs text/template, and with that the linker keeps every method of the program.
func wantsVersion(args []string) bool {
	if end := slices.Index(args, "--"); end >= 0 {
		args = args[:end]
	}
	return slices.Contains(args, "--version")
}

// version says which build this is: its version or commit, when that was made, and by which Go.
func version() string {
	build, ok := debug.ReadBuildInfo()
	if !ok {
		return "unknown"
	}
	text := strings.Trim(build.Main.Version, "()")
	set := map[string]string{}
	for _, s := range build.Settings {
		set[s.Key] = s.Value
	}
	if hash := set["vcs.revision"]; hash != "" {
		text += "\ncommit " + hash
		if set["vcs.modified"] == "true" {
			text += ", with changes"
		}
		text += "\nof " + set["vcs.time"]
	}
	return text + fmt.Sprintf("\nbuilt by %s for %s/%s", build.GoVersion, set["GOOS"], set["GOARCH"])
}

// builtFrom is when the commit was made that the program was built from; the zero time if that is
// not known.
func builtFrom() time.Time {
	if build, ok := debug.ReadBuildInfo(); ok {
		for _, s := range build.Settings {
			if s.Key == "vcs.time" {
				at, _ := time.Parse(time.RFC3339, s.Value) // as Go writes it
				return at
			}
		}
	}
	return time.Time{}
}
