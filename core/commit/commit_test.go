package commit

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tidytally/internal/testtree"
)

// The state of the work tree is what git says of it.
func TestCommitAsGitSaysIt(t *testing.T) {
	root := testtree.Folder(t)
	git := func(args ...string) string {
		t.Helper()
		return testtree.Git(t, root, args...)
	}
	write := func(name, text string) {
		t.Helper()
		testtree.Fill(t, root, map[string]string{name: text})
	}
	compare := func(when string) {
		t.Helper()
		c := Of(filepath.Join(root, "part"))
		want := git("status", "--porcelain", "--untracked-files=no") != ""
		if added := strings.HasPrefix(when, "staged") || strings.HasPrefix(when, "a file"); c.Dirty == nil && !added || c.Dirty != nil && *c.Dirty != want {
			t.Errorf("%s: dirty is %v, git says %v", when, c.Dirty, want)
		}
		if hash := git("rev-parse", "HEAD"); c.Hash != hash {
			t.Errorf("%s: at %s, git says %s", when, c.Hash, hash)
		}
	}
	git("init", "-q")
	for i := range 30 {
		write(fmt.Sprintf("part/dir%d/file %d.txt", i%7, i), fmt.Sprint(i))
	}
	if err := os.Symlink("part", filepath.Join(root, "link")); err != nil {
		t.Fatal(err)
	}
	git("add", ".")
	git("commit", "-qm", "one")
	compare("after a commit")
	for _, v := range []string{"2", "3", "4"} {
		git("update-index", "--index-version", v)
		compare("index version " + v)
		write("part/dir3/file 3.txt", "other"+v)
		compare("edited")
		write("part/dir3/file 3.txt", "3")
		compare("put back")
		later := time.Now().Add(time.Hour)
		if err := os.Chtimes(filepath.Join(root, "part/dir3/file 3.txt"), later, later); err != nil {
			t.Fatal(err)
		}
		compare("touched")
		git("add", "-u")
		write("part/untracked.txt", "x")
		compare("a file that is not tracked")
		write("part/dir4/file 4.txt", "staged")
		git("add", "part/dir4")
		compare("staged")
		git("commit", "-qm", "more")
		compare("committed")
		if err := os.Remove(filepath.Join(root, "link")); err != nil {
			t.Fatal(err)
		}
		compare("removed")
		git("checkout", "-q", "link")
		write("part/dir4/file 4.txt", "4")
		git("commit", "-qam", "back")
	}
	git("pack-refs", "--all")
	compare("packed")
	git("checkout", "-q", "--detach")
	compare("detached")
	git("worktree", "add", "-q", filepath.Join(root, "..", "second-"+filepath.Base(root)))
	second := filepath.Join(root, "..", "second-"+filepath.Base(root))
	t.Cleanup(func() { os.RemoveAll(second) })
	if c := Of(second); c.Hash != git("rev-parse", "HEAD") || c.Dirty == nil || *c.Dirty {
		t.Errorf("in another work tree: %+v", c)
	}
	if c := Of(t.TempDir()); c.Hash != "" || c.Dirty != nil {
		t.Errorf("without git: %+v", c)
	}
}

// The reader of an index survives any bytes.
func FuzzIndex(f *testing.F) {
	f.Add([]byte("DIRC\x00\x00\x00\x02\x00\x00\x00\x01"))
	f.Add(append([]byte("DIRC\x00\x00\x00\x04\x00\x00\x00\x02"), make([]byte, 200)...))
	cut := append(append([]byte("DIRC\x00\x00\x00\x02\x00\x00\x00\x01"), make([]byte, 60)...), "\x80\x02ab\x00"...)
	f.Add(cut) // the padding behind its path is missing
	f.Add(append(append([]byte("DIRC\x00\x00\x00\x02\x00\x00\x00\x01"), make([]byte, 60)...), "\x00\x0e/proc/self/pagemap\x00\x00\x00\x00\x00\x00\x00"...))
	dir := f.TempDir()
	f.Fuzz(func(t *testing.T, data []byte) {
		indexDiffers(data, dir)
		if rand.IntN(4) == 0 {
			mayBeStaged(data)
		}
	})
}
