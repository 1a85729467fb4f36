package run

import "os/exec"

// packages are the names of one package by package manager; "" if a manager does not have it.
type packages struct{ apt, dnf, pacman, apk, brew, pkg string }

// alike returns a package with the same name everywhere.
func alike(name string) packages { return packages{name, name, name, name, name, name} }

// obtain has the packages of tools that are often missing.
var obtain = map[string]struct {
	what string
	packages
}{
	"make":    {"GNU make", packages{"make", "make", "make", "make", "make", "gmake"}},
	"gcc":     {"the C compiler", alike("gcc")},
	"cc":      {"a C compiler", packages{"gcc", "gcc", "gcc", "build-base", "gcc", "gcc"}},
	"go":      {"Go", packages{"golang", "golang", "go", "go", "go", "go"}},
	"npm":     {"Node.js with npm", packages{"npm", "npm", "npm", "npm", "node", "npm"}},
	"npx":     {"Node.js with npm", packages{"npm", "npm", "npm", "npm", "node", "npm"}},
	"node":    {"Node.js", packages{"nodejs", "nodejs", "nodejs", "nodejs", "node", "node"}},
	"pnpm":    {"pnpm (npm install --global pnpm)", packages{}},
	"yarn":    {"yarn (npm install --global yarn)", packages{}},
	"python":  {"Python", packages{"python-is-python3", "python-unversioned-command", "python", "python3", "python", "python"}},
	"python3": {"Python", packages{"python3", "python3", "python", "python3", "python", "python3"}},
	"cmake":   {"CMake", alike("cmake")},
	"ninja":   {"ninja", packages{"ninja-build", "ninja-build", "ninja", "samurai", "ninja", "ninja"}},
	"cargo":   {"Rust", packages{"cargo", "cargo", "rust", "cargo", "rust", "rust"}},
	"gdb":     {"gdb", alike("gdb")},
	"rsync":   {"rsync", alike("rsync")},
	"strace":  {"strace", packages{apt: "strace", dnf: "strace", pacman: "strace", apk: "strace"}},
}

// managers are the package managers. The first one on the path is used, as some systems have several.
var managers = []struct {
	name, call string
	of         func(packages) string
}{
	{"apt-get", "apt-get install ", func(p packages) string { return p.apt }},
	{"dnf", "dnf install ", func(p packages) string { return p.dnf }},
	{"pacman", "pacman -S ", func(p packages) string { return p.pacman }},
	{"apk", "apk add ", func(p packages) string { return p.apk }},
	{"brew", "brew install ", func(p packages) string { return p.brew }},
	{"pkg", "pkg install ", func(p packages) string { return p.pkg }},
}

// remedy returns how to install a program here: "install GNU make (apt-get install make)"; "" if the program is not in obtain.
func remedy(program string) string {
	o, known := obtain[program]
	if !known {
		return ""
	}
	for _, m := range managers {
		if _, err := exec.LookPath(m.name); err != nil {
			continue
		}
		if name := m.of(o.packages); name != "" {
			return "install " + o.what + " (" + m.call + name + ")"
		}
		break
	}
	return "install " + o.what
}
