package main

import (
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"tidytally/core/draft"
	"tidytally/core/survey"
	"tidytally/core/tallyfile"
	"tidytally/core/task"
	"tidytally/core/workspace"
)

func newNew() *cobra.Command {
	var file, into, name string
	var dry bool
	c := &cobra.Command{
		Use:   "new [STARTING-POINT [NAME=VALUE…]]",
		Short: "Write a new task into a tally file, from a starting point",
		Long: `Write a new task into the workspace's tally file, from a starting point that is filled with what is here: the
compilers for a file, its folder, programs on the path. Without one, the starting points are listed.`,
		Example: `  tidytally new --file kiln/src/coil.c
  tidytally new "compile coil.c with gcc" --file kiln/src/coil.c
  tidytally new "serve this folder" port=8123 --dry-run`,
		ValidArgsFunction: func(c *cobra.Command, args []string, _ string) (names []string, _ cobra.ShellCompDirective) {
			s, err := surveyCompleting(c)
			if err != nil {
				return nil, cobra.ShellCompDirectiveError
			}
			offers, err := offersHere(s, file)
			if err != nil || len(args) > 1 {
				return nil, cobra.ShellCompDirectiveNoFileComp
			}
			for _, o := range offers {
				switch {
				case len(args) == 0:
					names = append(names, o.Name+"\t"+o.About)
				case o.Name == args[0]:
					for _, a := range o.Asks {
						names = append(names, a.Name+"=\t"+a.About)
					}
				}
			}
			return names, cobra.ShellCompDirectiveNoFileComp | cobra.ShellCompDirectiveNoSpace
		},
		RunE: func(_ *cobra.Command, args []string) error {
			s, err := surveyHere()
			if err != nil {
				return err
			}
			offers, err := offersHere(s, file)
			if err != nil {
				return err
			}
			if len(args) == 0 {
				return printOffers(offers)
			}
			d, err := draftOf(offers, args[0], args[1:])
			if err != nil {
				return err
			}
			if into == "" {
				into = filepath.Join(s.Root, workspace.TallyFile)
			}
			if into, err = filepath.Abs(into); err != nil {
				return &codeError{exitOwn, err}
			}
			rel, err := filepath.Rel(s.Root, into)
			if err != nil {
				rel = into
			}
			if name == "" {
				name = d.Name()
			}
			if d.Table[0] == "task" {
				name = draft.FreeName(name, filepath.ToSlash(rel), s.Tasks)
			}
			d.Table = tallyfile.Table{d.Table[0], name}
			if dry {
				return tallyLines(d.Lines())
			}
			if err := tallyfile.EditFile(into, d.Write); err != nil {
				return &codeError{exitUsage, err}
			}
			if err := tallyLines(d.Lines()); err != nil {
				return err
			}
			return line(stderr, "written into %s", rel)
		},
	}
	c.Flags().StringVar(&file, "file", "", "the current `file`, for which it is")
	c.Flags().StringVar(&into, "into", "", "the tally `FILE` that it is written into, instead of the root's")
	c.Flags().StringVar(&name, "name", "", "the `NAME` of the task")
	c.Flags().BoolVar(&dry, "dry-run", false, "print the lines, and write nothing")
	return c
}

// tallyLines prints lines of a tally file.
func tallyLines(lines string) error {
	_, err := stdout.Write([]byte(lines))
	return quietPipe(err)
}

// offersHere returns the starting points, filled for a current file or the current folder.
func offersHere(s *survey.Survey, file string) ([]draft.Offer, error) {
	points, err := draft.Points(filepath.Join(filepath.Dir(survey.PersonalFile()), draft.UserPoints))
	if err != nil {
		line(stderr, "%v", err) // the others are offered
	}
	folder := "."
	if here, err := os.Getwd(); err == nil {
		if rel, err := filepath.Rel(s.Root, here); err == nil && !strings.HasPrefix(rel, "..") {
			folder = filepath.ToSlash(rel)
		}
	}
	current := ""
	if file != "" {
		abs, err := absFile(file)
		if err != nil {
			return nil, &codeError{exitUsage, err}
		}
		if abs, err = filepath.EvalSymlinks(abs); err != nil {
			return nil, &codeError{exitUsage, err}
		}
		rel, err := filepath.Rel(s.Root, abs)
		if err != nil || strings.HasPrefix(rel, "..") {
			return nil, usageError("--file %s is not in the workspace %s", file, s.Root)
		}
		current = filepath.ToSlash(rel)
	}
	return draft.Offers(points, current, folder, os.Getenv("PATH")), nil
}

func printOffers(offers []draft.Offer) error {
	w := newTable(stdout)
	for _, o := range offers {
		var asks []string
		for _, a := range o.Asks {
			text := a.Name + "="
			if a.Default != "" {
				text += task.Quote(a.Default)
			}
			asks = append(asks, text)
		}
		w.row(o.Name, o.About, strings.Join(asks, " "))
	}
	return w.flush()
}

// draftOf returns the draft of a starting point with values.
func draftOf(offers []draft.Offer, name string, values []string) (*draft.Draft, error) {
	var names []string
	for _, o := range offers {
		names = append(names, o.Name)
	}
	i := slices.Index(names, name)
	if i < 0 {
		near := ""
		if n, ok := task.Nearest(name, names); ok {
			near = "; did you mean " + task.Quote(n) + "?"
		}
		return nil, usageError("there is no starting point %s here%s", task.Quote(name), near)
	}
	answers := map[string]string{}
	for _, v := range values {
		key, value, ok := strings.Cut(v, "=")
		if !ok || !slices.ContainsFunc(offers[i].Asks, func(a draft.Ask) bool { return a.Name == key }) {
			return nil, usageError("%s is no value that %s asks for", v, name)
		}
		answers[key] = value
	}
	d, err := offers[i].Draft(answers)
	if err != nil {
		return nil, usageError("%v", err)
	}
	return d, nil
}
