package workspace

import "strings"

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
	{Name: "version control", names: names(".git .hg .svn .bzr .jj _darcs CVS")},
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
		names: names(".next .nuxt .svelte-kit _build"),
		holds: []string{"CMakeCache.txt", "meson-private"},
		beside: map[string][]string{
			"target": {"Cargo.toml", "pom.xml"},
			"build":  {"build.gradle", "build.gradle.kts", "settings.gradle", "settings.gradle.kts", "setup.py"},
			"dist":   {"package.json", "setup.py", "pyproject.toml"},
		},
	},
}

// byName finds the rule that keeps out a folder seen from its parent, whose
// names are given.
func byName(name string, siblings map[string]bool) string {
	for i := range Rules {
		r := &Rules[i]
		if r.names[name] {
			return r.Name
		}
		for _, sign := range r.beside[name] {
			if siblings[sign] {
				return r.Name
			}
		}
	}
	return ""
}

// byContent finds the rule that keeps out a folder by what is in it.
func byContent(inside map[string]bool) string {
	for i := range Rules {
		for _, sign := range Rules[i].holds {
			if inside[sign] {
				return Rules[i].Name
			}
		}
	}
	return ""
}
