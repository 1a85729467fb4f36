package main

import (
	"maps"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"tidytally/core/filter"
	"tidytally/core/history"
	"tidytally/core/printable"
	"tidytally/core/run"
	"tidytally/core/survey"
	"tidytally/core/task"
)

// Completion for shells: short task ids, arguments of tasks, filters and presets.

// surveyCompleting surveys the workspace that the line is about that is being completed.
func surveyCompleting(c *cobra.Command) (*survey.Survey, error) {
	if dir := c.Flag("directory").Value.String(); dir != "" {
		if err := os.Chdir(dir); err != nil {
			return nil, err
		}
	}
	return surveyHere()
}

// completeIDs completes the ids of any number of tasks.
func completeIDs(c *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
	s, err := surveyCompleting(c)
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	return shortIDs(s), cobra.ShellCompDirectiveNoFileComp
}

// completeID completes the id of one task.
func completeID(c *cobra.Command, args []string, word string) ([]string, cobra.ShellCompDirective) {
	if len(args) > 0 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	return completeIDs(c, args, word)
}

// completeRun completes the ids of tasks and, behind "--", the arguments of the last of them.
func completeRun(c *cobra.Command, args []string, word string) ([]string, cobra.ShellCompDirective) {
	s, err := surveyCompleting(c)
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	at := c.ArgsLenAtDash()
	if at < 1 {
		return shortIDs(s), cobra.ShellCompDirectiveNoFileComp
	}
	t, err := task.Find(s.Tasks, args[at-1])
	if err != nil {
		return nil, cobra.ShellCompDirectiveDefault
	}
	name, _, valued := strings.Cut(word, "=")
	var words []string
	names := run.Asks(t)
	for _, a := range t.Args {
		switch {
		case !valued:
			words = append(words, a.Name+"=\t"+printable.Text(a.About))
		case a.Name == name:
			for _, choice := range a.Choices {
				words = append(words, name+"="+choice)
			}
		}
		names = slices.DeleteFunc(names, func(n string) bool { return n == a.Name })
	}
	for _, n := range names {
		if !valued {
			words = append(words, n+"=")
		}
	}
	if len(words) == 0 {
		return nil, cobra.ShellCompDirectiveDefault // it may be a file
	}
	return words, cobra.ShellCompDirectiveNoSpace
}

// completePreset completes the names under which arguments of a task are kept.
func completePreset(c *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	s, err := surveyCompleting(c)
	if err != nil || len(args) == 0 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	t, err := task.Find(s.Tasks, args[0])
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	names := slices.Collect(maps.Keys(t.Presets))
	if history.Exists(s.Root) {
		if store, err := history.Open(s.Root); err == nil { // else there are those of the tally file
			kept, _ := store.Presets(t.ID())
			names = slices.AppendSeq(names, maps.Keys(kept))
			store.Close()
		}
	}
	slices.Sort(names)
	return names, cobra.ShellCompDirectiveNoFileComp
}

// completePlace completes the names of places.
func completePlace(c *cobra.Command, _ []string, _ string) ([]string, cobra.ShellCompDirective) {
	s, err := surveyCompleting(c)
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	return slices.Sorted(maps.Keys(s.Tally.Places)), cobra.ShellCompDirectiveNoFileComp
}

// completeFilter completes the fields of a filter, and kinds.
func completeFilter(_ *cobra.Command, _ []string, word string) ([]string, cobra.ShellCompDirective) {
	minus := ""
	if strings.HasPrefix(word, "-") {
		minus = "-"
	}
	var words []string
	if strings.HasPrefix(word, minus+"kind:") {
		for _, k := range task.Kinds {
			words = append(words, minus+"kind:"+string(k))
		}
		return words, cobra.ShellCompDirectiveNoFileComp
	}
	for _, f := range task.FilterFields {
		words = append(words, minus+f+":")
	}
	return words, cobra.ShellCompDirectiveNoFileComp | cobra.ShellCompDirectiveNoSpace
}

// shortIDs returns the ids of the listed tasks, each as short as it may be, with what it does.
func shortIDs(s *survey.Survey) (ids []string) {
	listed := s.Select(filter.Query{}, false, nil)
	names, inFolder := map[string]int{}, map[string]int{}
	for _, t := range listed {
		names[t.Name]++
		inFolder[t.Folder()+"#"+t.Name]++
	}
	for _, t := range listed {
		id := t.ShownID()
		switch short := t.Folder() + "#" + t.Name; {
		case names[t.Name] == 1 && !strings.ContainsAny(t.Name, "#%"):
			id = t.Name
		case inFolder[short] == 1 && t.Folder() != "." && !strings.Contains(short, "%"):
			id = short
		}
		ids = append(ids, id+"\t"+printable.Text(t.About))
	}
	return ids
}
