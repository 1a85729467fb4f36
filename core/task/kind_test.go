package task

import "testing"

func TestKindAndStandingAreToldByTheName(t *testing.T) {
	for _, c := range []struct {
		name, command string
		kind          Kind
		longRunning   bool
	}{
		{"build", "tsc -p .", Build, false},
		{"build:prod", "vite build", Build, false},
		{"all", "", Build, false},
		{"check-one", "", Check, false},
		{"lint", "eslint .", Check, false},
		{"type-check", "tsc --noEmit", Check, false},
		{"test", "node --test", Test, false},
		{"test:watch", "vitest", Test, true},
		{"selftest", "", Test, false},
		{"start", "node serve.mjs", Run, false},
		{"dev", "vite", Serve, true},
		{"serve", "python3 -m http.server", Serve, true},
		{"watch", "tsc --watch", Serve, true},
		{"compile", "tsc -p . --watch", Build, true},
		{"clean", "rm -rf build", Clean, false},
		{"distclean", "", Clean, false},
		{"deploy", "", Run, false},
		{"foo", "bar", Other, false},
		{"rebuild-index", "", Other, false},
		{"Build_All", "", Build, false},
		{"preview", "vite preview", Serve, true},
	} {
		if got := KindOf(c.name); got != c.kind {
			t.Errorf("%s: kind %s, want %s", c.name, got, c.kind)
		}
		if got := LongRunningOf(c.name, c.command); got != c.longRunning {
			t.Errorf("%s (%s): long-running %v", c.name, c.command, got)
		}
	}
}

func TestDistance(t *testing.T) {
	for _, c := range []struct {
		a, b string
		want int
	}{
		{"", "", 0}, {"a", "", 1}, {"kind", "kidn", 1}, {"kind", "Kind", 0}, {"about", "abuot", 1}, {"run", "rnu", 1}, {"before", "befor", 1}, {"sieves", "sieve", 1}, {"ä", "a", 1}, {"build", "test", 5},
	} {
		if got := Distance(c.a, c.b); got != c.want {
			t.Errorf("%q to %q: %d, want %d", c.a, c.b, got, c.want)
		}
		if got := Distance(c.b, c.a); got != c.want {
			t.Errorf("%q to %q: %d, want %d", c.b, c.a, got, c.want)
		}
	}
	for word, want := range map[string]string{"abuot": "about", "envfile": "env_file", "xyzzy": "", "readt": "reads"} {
		got, ok := Nearest(word, []string{"about", "env", "env_file", "reads", "ready"})
		if got != want || ok != (want != "") {
			t.Errorf("nearest to %s: %q, want %q", word, got, want)
		}
	}
}
