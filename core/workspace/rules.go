package workspace

import (
	"slices"
	"strings"
)

// A Rule keeps a kind of folder out of the survey.
type Rule struct {
	// Name is shown, and names the rule in a tally file.
	Name string
	// names match a folder by its own name.
	names map[string]bool
	// holds match a folder by a file in it.
	holds []string
	// beside match a folder name next to one of the files.
	beside map[string][]string
}

func names(list string) map[string]bool {
	m := map[string]bool{}
	for _, n := range strings.Fields(list) {
		m[n] = true
	}
	return m
}

// Rules are the built-in rules, the first that matches counts.
var Rules = []Rule{
	{Name: "version control", names: names(".git .hg .svn .bzr .jj _darcs CVS"), holds: []string{".quilt_patches"}}, // what patches replaced
	{
		Name:   "dependency folders",
		names:  names("node_modules bower_components jspm_packages .pnpm-store .yarn Pods Carthage elm-stuff .bundle site-packages"),
		beside: map[string][]string{"vendor": {"go.mod", "composer.json", "Gemfile"}},
	},
	{Name: "virtual environments", holds: []string{"pyvenv.cfg", "conda-meta"}},
	{
		Name:  "caches",
		names: names("__pycache__ .cache .mypy_cache .pytest_cache .ruff_cache .tox .nox .gradle .parcel-cache .nyc_output .eggs .ccls-cache .clangd"),
		holds: []string{"CACHEDIR.TAG"},
	},
	{
		Name:  "build outputs",
		names: names(".next .nuxt .svelte-kit _build dist-newstyle .stack-work"),
		holds: []string{"CMakeCache.txt", "meson-private"},
		beside: map[string][]string{
			"target": {"Cargo.toml", "pom.xml"},
			"build":  {"build.gradle", "build.gradle.kts", "settings.gradle", "settings.gradle.kts", "setup.py"},
			"dist":   {"package.json", "setup.py", "pyproject.toml"},
		},
	},
}

// holdRules, nameRules and besideRules are the rules, indexed by what they look for.
var holdRules, nameRules, besideRules = func() (holds, names map[string]string, beside map[string][]string) {
	holds, names, beside = map[string]string{}, map[string]string{}, map[string][]string{}
	for i := len(Rules) - 1; i >= 0; i-- {
		r := &Rules[i]
		for _, sign := range r.holds {
			holds[sign] = r.Name
		}
		for name := range r.names {
			names[name] = r.Name
		}
		for name, signs := range r.beside {
			beside[name] = append([]string{r.Name}, signs...)
		}
	}
	return holds, names, beside
}()

// ruleByName finds the rule that keeps out a folder seen from its parent, whose
// entries are given.
func ruleByName(name string, siblings []entry) string {
	if rule := nameRules[name]; rule != "" {
		return rule
	}
	if beside := besideRules[name]; beside != nil {
		for _, e := range siblings {
			if slices.Contains(beside[1:], e.name) {
				return beside[0]
			}
		}
	}
	return ""
}
