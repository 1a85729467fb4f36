package commit

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"tidytally/internal/testtree"
)

// repository is a work tree in a test.
type repository struct {
	t    *testing.T
	root string
}

func newRepository(t *testing.T) *repository {
	t.Helper()
	r := &repository{t, testtree.Folder(t)}
	r.git("init", "-q")
	return r
}

func (r *repository) git(args ...string) string {
	r.t.Helper()
	return testtree.Git(r.t, r.root, args...)
}

func (r *repository) write(name, text string) {
	r.t.Helper()
	testtree.Fill(r.t, r.root, map[string]string{name: text})
}

func (r *repository) since(dir, revision string) *Since {
	r.t.Helper()
	s, err := Compare(r.t.Context(), filepath.Join(r.root, dir), revision)
	if err != nil {
		r.t.Fatal(err)
	}
	return s
}

// differing is what git says: the names of the files that differ from a commit, those that are not tracked included.
func (r *repository) differing(dir, revision string) []string {
	r.t.Helper()
	out := r.git("-C", dir, "diff", "--no-renames", "--name-only", "--relative", "-z", revision) + r.git("-C", dir, "ls-files", "--others", "--exclude-standard", "-z")
	names := slices.DeleteFunc(strings.Split(out, "\x00"), func(s string) bool { return s == "" })
	slices.Sort(names)
	return slices.Compact(names)
}

// After random edits, stages and commits, what differs from an earlier commit is what git says, from the root and from a folder
// below it; and names came or went where a list of the commit's folder is another one.
func TestSinceAsGitSaysIt(t *testing.T) {
	r := newRepository(t)
	r.write(".gitignore", "*.o\n")
	var names []string
	for i := range 12 {
		names = append(names, fmt.Sprintf("part/dir %d/é%d.c", i%3, i))
	}
	names = append(names, "top.c", "part/new/deep/er/x.c", "part/junk.o")
	for _, name := range names[:10] {
		r.write(name, name)
	}
	r.git("add", "-A")
	r.git("commit", "-qm", "one")
	first := r.git("rev-parse", "HEAD")
	random := rand.New(rand.NewPCG(3, 1))
	for i := range 60 {
		name := names[random.IntN(len(names))]
		switch full := filepath.Join(r.root, name); random.IntN(6) {
		case 0:
			_ = os.Remove(full)
		case 1:
			r.write(name, name) // as at first
		case 2:
			r.git("add", "-A")
		case 3:
			r.git("commit", "-q", "--allow-empty", "-am", "more")
		case 4:
			r.git("update-index", "--index-version", fmt.Sprint(2+i%3))
		default:
			r.write(name, fmt.Sprint(random.IntN(3)))
		}
		for _, revision := range []string{first, "HEAD"} {
			for _, dir := range []string{".", "part"} {
				s, want := r.since(dir, revision), r.differing(dir, revision)
				var got []string
				came := map[string]bool{}
				for _, name := range names {
					rel, err := filepath.Rel(dir, name)
					if err != nil || !filepath.IsLocal(rel) {
						continue
					}
					reason := s.Of(filepath.ToSlash(rel))
					if reason != "" {
						got = append(got, filepath.ToSlash(rel))
					}
					if strings.HasSuffix(reason, "is gone") || strings.HasSuffix(reason, "is new") {
						came[path.Dir(filepath.ToSlash(rel))] = true
					}
				}
				if slices.Sort(got); !slices.Equal(got, want) || !slices.Equal(slices.DeleteFunc(slices.Clone(s.Names()), func(n string) bool { return path.Base(n) == ".gitignore" }), want) {
					t.Fatalf("step %d, since %.7s in %s: %q, git says %q", i, revision, dir, got, want)
				}
				for folder := range came {
					if !s.In(folder) {
						t.Fatalf("step %d, since %.7s in %s: nothing came or went in %s", i, revision, dir, folder)
					}
				}
				for folder := range s.listed {
					if !came[folder] && !slices.ContainsFunc(want, func(name string) bool { return strings.HasPrefix(name, folder+"/") || folder == "." }) {
						t.Fatalf("step %d: names came or went in %s, git says %q", i, folder, want)
					}
				}
			}
		}
	}
}

// Of a branch it is the commit that it has in common with the present one; a submodule that moved has other files; what is no
// commit is told.
func TestSinceWhat(t *testing.T) {
	r := newRepository(t)
	r.write("a.c", "1")
	r.git("add", "-A")
	r.git("commit", "-qm", "one")
	base := r.git("rev-parse", "HEAD")
	r.git("checkout", "-q", "-b", "glaze")
	r.write("a.c", "2")
	r.git("commit", "-qam", "two")
	r.git("checkout", "-q", "main")
	r.write("b.c", "1")
	r.git("add", "-A")
	r.git("commit", "-qm", "three")
	if s := r.since(".", "glaze"); s.Hash != base || s.Of("a.c") != "" || s.Of("b.c") != "b.c is new" {
		t.Errorf("since the branch: %s, %q, %q", s.Hash, s.Of("a.c"), s.Of("b.c"))
	}
	if s := r.since(".", "glaze~0"); s.Of("a.c") != "a.c changed" {
		t.Errorf("since the commit: %q", s.Of("a.c"))
	}
	for _, bad := range []string{"nothing", "--help", "", "HEAD:a.c"} {
		if _, err := Compare(t.Context(), r.root, bad); err == nil || !strings.Contains(err.Error(), "no commit") {
			t.Errorf("%q: %v", bad, err)
		}
	}
	if _, err := Compare(t.Context(), t.TempDir(), "HEAD"); err == nil {
		t.Error("a folder without git has a commit")
	}

	r.write("deep/in/x.c", "1")
	r.write("wide/y.c", "1")
	r.git("add", "-A")
	r.git("commit", "-qm", "parts")
	for _, how := range []string{"--no-sparse-index", "--sparse-index"} {
		r.git("sparse-checkout", "set", how, "wide")
		if s := r.since(".", "HEAD"); len(s.Names()) != 0 || s.In("deep") || s.In(".") {
			t.Errorf("with %s: %q differ", how, s.Names())
		}
		if c := Of(r.root); c.Dirty == nil || *c.Dirty {
			t.Errorf("with %s it stands at %+v", how, c)
		}
	}
	r.git("sparse-checkout", "disable")

	other := newRepository(t)
	other.write("lib.h", "1")
	other.git("add", "-A")
	other.git("commit", "-qm", "one")
	r.git("submodule", "--quiet", "add", other.root, "lib")
	r.git("commit", "-qm", "four")
	if s := r.since(".", "HEAD"); s.Of("lib/lib.h") != "" {
		t.Errorf("in a submodule: %q", s.Of("lib/lib.h"))
	}
	r.write("lib/lib.h", "22")
	if s := r.since(".", "HEAD"); s.Of("lib/lib.h") == "" || !s.In("lib") {
		t.Error("in a submodule that has changed nothing differs")
	}
}
