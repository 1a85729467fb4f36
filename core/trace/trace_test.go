package trace

import (
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"tidytally/internal/testtree"
)

// traced runs a command in a folder under strace and reads its trace.
func traced(t *testing.T, dir string, command ...string) *Trace {
	t.Helper()
	strace, err := exec.LookPath("strace")
	if err != nil {
		t.Skip(err)
	}
	file := filepath.Join(t.TempDir(), "trace")
	argv := Argv(strace, file, command)
	cmd := exec.Command(argv[0], argv[1:]...)
	cmd.Dir = dir
	if out, err := cmd.CombinedOutput(); err != nil && len(out) > 0 && strings.Contains(string(out), "strace:") {
		t.Skipf("strace cannot trace here: %s", out)
	}
	// The tracer writes the end when the last process has ended.
	for deadline := time.Now().Add(20 * time.Second); ; time.Sleep(5 * time.Millisecond) {
		if err := exec.Command("pgrep", "-f", file).Run(); err != nil || time.Now().After(deadline) {
			break
		}
	}
	f, err := os.Open(file)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	tr, err := Read(f, dir)
	if err != nil {
		t.Fatal(err)
	}
	return tr
}

// inside returns the paths of a set that are in a folder, relative to it.
func inside[V any](dir string, set map[string]V) string {
	var names []string
	for name := range maps.Keys(set) {
		if rel, ok := strings.CutPrefix(name, dir+"/"); ok {
			names = append(names, rel)
		}
	}
	slices.Sort(names)
	return strings.Join(names, " ")
}

// A source that compilers alone have opened steers nothing else, also where threads and children of theirs read it.
func TestWhoReads(t *testing.T) {
	dir := testtree.Folder(t)
	testtree.Fill(t, dir, map[string]string{
		"Makefile": "a: a.c a.h b.c\n\tcc -c a.c b.c && cat b.c >/dev/null\n", "a.c": "#include \"a.h\"\n", "a.h": "int a;\n", "b.c": "int b;\n",
		"go/go.mod": "module x\n", "go/m.go": "package main\n\nfunc main() {}\n",
	})
	for folder, command := range map[string][]string{".": {"make"}, "go": {"go", "build", "-o", "m", "."}} {
		tr := traced(t, filepath.Join(dir, folder), command...)
		for name, want := range map[string]bool{"Makefile": true, "a.c": false, "a.h": false, "b.c": true, "go/m.go": false} {
			if use, read := tr.Read[filepath.Join(dir, name)]; read && (use&Steers != 0) != want {
				t.Errorf("%s steers: %v", name, !want)
			} else if !read && filepath.Dir(name) == folder {
				t.Errorf("%s is not read", name)
			}
		}
	}
}

// A build in C: what was read, what was looked for, what was made; a temporary file is neither.
func TestABuildInC(t *testing.T) {
	dir := testtree.Folder(t)
	testtree.Fill(t, dir, map[string]string{
		"Makefile": "a: a.o\n\tcc -o $@ a.o\na.o: a.c inc/b.h\n\tcc -c -Iinc -I. a.c\n",
		"a.c":      "#include <b.h>\nint main(void) { return B; }\n", "inc/b.h": "#define B 3\n", "unused.h": "",
	})
	tr := traced(t, dir, "make")
	for name, want := range map[string][2]string{
		"read":   {inside(dir, tr.Read), "Makefile a.c inc inc/b.h"},
		"wrote":  {inside(dir, tr.Wrote), "a a.o"},
		"listed": {inside(dir, tr.Removed), ""},
	} {
		got := " " + want[0] + " "
		for _, w := range strings.Fields(want[1]) {
			if !strings.Contains(got, " "+w+" ") {
				t.Errorf("%s: no %s in %s", name, w, want[0])
			}
		}
		if strings.Contains(got, "unused.h") {
			t.Errorf("%s: unused.h", name)
		}
	}
	if !tr.Missing[dir+"/a.c.gch"] || tr.Missing[dir+"/a.o"] {
		t.Errorf("looked for: %s", inside(dir, tr.Missing))
	}
	if tr.Read[dir+"/a.c"]&Times == 0 || tr.Network || tr.Cut != "" {
		t.Errorf("a.c: %b, network %v, %s", tr.Read[dir+"/a.c"], tr.Network, tr.Cut)
	}
	for _, program := range []string{"cc1", "as", "make"} {
		if !slices.ContainsFunc(slices.Collect(maps.Keys(tr.Executed)), func(p string) bool { return filepath.Base(p) == program }) {
			t.Errorf("%s was not executed: %v", program, tr.Executed)
		}
	}
}

// Names with everything in them, folders that change, files that are made, moved and taken away.
func TestWhatAShellDoes(t *testing.T) {
	dir := testtree.Folder(t)
	testtree.Fill(t, dir, map[string]string{"in/a \"b\"\n\\>(c) = 1": "x", "old": "", "gone": "", "sub/list/one": ""})
	tr := traced(t, dir, "sh", "-c", `cat in/a*; cd sub; mkdir made; echo x > made/new; mv made/new ../moved; rm ../gone; ls list; (cd list; cat one); cat nothere 2>/dev/null; touch tmp.$$; rm tmp.$$; true`)
	odd := "in/a \"b\"\n\\>(c) = 1"
	if tr.Read[dir+"/"+odd] == 0 {
		t.Errorf("the odd name is not among %q", inside(dir, tr.Read))
	}
	if got := inside(dir, tr.Wrote); got != "moved sub/made" {
		t.Errorf("written: %q", got)
	}
	if got := inside(dir, tr.Removed); got != "gone" {
		t.Errorf("removed: %q", got)
	}
	if !tr.Missing[dir+"/sub/nothere"] || tr.Read[dir+"/sub/list/one"] == 0 || !tr.Listed[dir+"/sub/list"] {
		t.Errorf("looked for %q, read %q, listed %q", inside(dir, tr.Missing), inside(dir, tr.Read), inside(dir, tr.Listed))
	}
}

// The network is noticed; a trace that was cut says so or has what it has.
func TestNetworkAndCutTraces(t *testing.T) {
	for text, network := range map[string]bool{
		"7 connect(3<socket:[1]>, {sa_family=AF_INET, sin_port=htons(53), sin_addr=inet_addr(\"10.0.0.1\")}, 16) = 0\n":           true,
		"7 connect(3<socket:[1]>, {sa_family=AF_UNIX, sun_path=\"/run/x\"}, 110) = 0\n":                                           false,
		"7 openat(AT_FDCWD</w>, \"a\", O_RDONLY) = 3</w/a>\n7 openat(AT_FDCWD</w>, \"b":                                           false,
		"7 openat(AT_FDCWD</w>, \"a\", O_RDONLY <unfinished ...>\n8 <... read resumed>) = 3\n7 <... openat resumed>) = 3</w/a>\n": false,
	} {
		tr, err := Read(strings.NewReader(text), "/w")
		if err != nil || tr.Network != network || strings.Contains(text, "</w/a>") && tr.Read["/w/a"] == 0 {
			t.Errorf("%q: %v, %+v", text, err, tr)
		}
	}
	if tr, err := Read(strings.NewReader(""), "/w"); err != nil || tr.Cut == "" {
		t.Errorf("an empty trace: %v, %+v", err, tr)
	}
}

func FuzzRead(f *testing.F) {
	f.Add("7 openat(AT_FDCWD</w>, \"a\\n\", O_RDONLY) = 3</w/a>\n7 vfork( <unfinished ...>\n8 rename(\"a\", \"b\") = 0\n7 <... vfork resumed>) = 8\n")
	f.Add("1 fchdir(3<) = 0\n1 renameat(\n1 unlinkat(AT_FDCWD, \"\\777\", 0) = 0\n1 execve(\"\\x\", [\"")
	f.Fuzz(func(t *testing.T, text string) {
		tr, err := Read(strings.NewReader(text), "/w")
		if err != nil {
			t.Fatal(err)
		}
		for name := range tr.Read {
			if !filepath.IsAbs(name) {
				t.Errorf("%q is read", name)
			}
		}
	})
}

// A service that was talked to, the network and a clock are seen; a service that only says who users are does not
// count, nor one that is not there.
func TestWhoIsTalkedTo(t *testing.T) {
	for call, want := range map[string]string{
		`connect(3</w>, {sa_family=AF_UNIX, sun_path="/run/docker.sock"}, 110) = 0`:                                 "/run/docker.sock",
		`connect(3, {sa_family=AF_UNIX, sun_path="/run/docker.sock"}, 110) = -1 ENOENT (No such file or directory)`: "",
		`connect(3, {sa_family=AF_UNIX, sun_path="/var/run/nscd/socket"}, 110) = 0`:                                 "",
		`connect(3, {sa_family=AF_UNIX, sun_path=@"/tmp/dbus"}, 20) = 0`:                                            "a socket without a path",
		`sendto(6, "x", 1, 0, {sa_family=AF_INET, sin_port=htons(9), sin_addr=inet_addr("127.0.0.1")}, 16) = 1`:     "network",
		`sendmsg(6, {msg_name={sa_family=AF_INET6, sin6_port=htons(9)}, msg_namelen=28}, 0) = 1`:                    "network",
		`sendto(4, "x", 1, 0, NULL, 0) = 1`:                                                                         "",
		`openat(AT_FDCWD</w>, "/dev/rtc0", O_RDONLY) = 3</dev/rtc0>`:                                                "clock",
	} {
		tr, err := Read(strings.NewReader("1 "+call+"\n"), "/w")
		if err != nil {
			t.Fatal(err)
		}
		got := tr.Service
		if tr.Network {
			got = "network"
		}
		if tr.Clock {
			got = "clock"
		}
		if got != want {
			t.Errorf("%s: %q, want %q", call, got, want)
		}
	}
}
