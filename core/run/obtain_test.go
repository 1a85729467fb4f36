package run

import (
	"os"
	"path/filepath"
	"testing"
)

// What is missing is installed by the manager of packages that the system has, under the name that it has there.
func TestARemedyFitsTheSystem(t *testing.T) {
	for _, c := range []struct{ manager, program, want string }{
		{"apt-get", "ninja", "install ninja (apt-get install ninja-build)"},
		{"apk", "ninja", "install ninja (apk add samurai)"},
		{"brew", "npm", "install Node.js with npm (brew install node)"},
		{"pkg", "make", "install GNU make (pkg install gmake)"},
		{"brew", "strace", "install strace"},
		{"none", "make", "install GNU make"},
		{"dnf", "pnpm", "install pnpm (npm install --global pnpm)"},
		{"dnf", "a-kiln", ""},
	} {
		bin := t.TempDir()
		if err := os.WriteFile(filepath.Join(bin, c.manager), []byte("#!/bin/sh\n"), 0o755); err != nil {
			t.Fatal(err)
		}
		t.Setenv("PATH", bin)
		if got := remedy(c.program); got != c.want {
			t.Errorf("%s with %s: %q, want %q", c.program, c.manager, got, c.want)
		}
	}
}
