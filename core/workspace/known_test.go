package workspace

import (
	"fmt"
	"io/fs"
	"math/rand"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"tidytally/internal/testtree"
)

// growTree lays random folders, files and links below root, some of them ignored by
// the rules, and gives the paths of all folders that are no links.
func growTree(t *testing.T, root string, random *rand.Rand) (folders []string) {
	t.Helper()
	folders = []string{"."}
	names := []string{"src", "lib", "node_modules", ".github", "build", "kiln", "glaze", ".venv", "target"}
	for range 60 {
		parent := folders[random.Intn(len(folders))]
		at := path.Join(parent, names[random.Intn(len(names))])
		full := filepath.Join(root, at)
		switch random.Intn(6) {
		case 0:
			_ = os.WriteFile(filepath.Join(root, parent, fmt.Sprintf("file%d.c", random.Intn(9))), nil, 0o644)
		case 1:
			_ = os.Symlink(filepath.Join(root, folders[random.Intn(len(folders))]), full+"-link")
		case 2: // more than are looked through one by one
			for i := range 40 {
				_ = os.WriteFile(filepath.Join(root, parent, fmt.Sprintf("many%d.txt", i)), nil, 0o644)
			}
		default:
			if os.Mkdir(full, 0o755) == nil {
				folders = append(folders, at)
			}
		}
	}
	return folders
}

// What the walk says is in a folder, or that there is none, is what the file
// system says; where it cannot tell it says so.
func TestTheWalkKnowsWhatIsThere(t *testing.T) {
	for seed := range int64(12) {
		random := rand.New(rand.NewSource(seed))
		root := testtree.Lay(t, nil)
		folders := growTree(t, root, random)
		tree := Walk{Root: root, Wants: func(_, name string) bool { return strings.HasSuffix(name, ".c") }}.Prepare()
		if err := tree.Run(); err != nil {
			t.Fatal(err)
		}
		// fresh are the folders that must be known; of the others it may not tell.
		check := func(when string, fresh []string) {
			known := 0
			asked := append(slices.Clone(folders), "nowhere", "src/nowhere", "nowhere/at/all", ".github/none")
			for _, f := range folders {
				asked = append(asked, path.Join(f, "gone"))
			}
			for _, dir := range asked {
				there, err := os.ReadDir(filepath.Join(root, dir))
				var want []string
				for _, e := range there {
					want = append(want, e.Name()+" "+e.Type().String())
				}
				list, ok := tree.List(dir)
				if !ok {
					if _, entered := tree.folders[withoutDot(dir)]; entered && err == nil && slices.Contains(fresh, dir) {
						t.Errorf("seed %d, %s: %s was entered, and is not known", seed, when, dir)
					}
					continue
				}
				known++
				var got []string
				for _, e := range list {
					got = append(got, e.Name+" "+e.Type.String())
				}
				if !slices.Equal(got, want) {
					t.Errorf("seed %d, %s: %s has\n%q\nwant\n%q", seed, when, dir, got, want)
				}
				for _, name := range []string{"file1.c", "many7.txt", "src", "none"} {
					_, err := os.Lstat(filepath.Join(root, dir, name))
					if there, ok := tree.Has(dir, name); ok && there != (err == nil) {
						t.Errorf("seed %d, %s: %s in %s: %v, %v", seed, when, name, dir, there, err)
					}
				}
				if info, err := os.Lstat(filepath.Join(root, dir)); err == nil && tree.Plain(dir) && !info.IsDir() {
					t.Errorf("seed %d: %s is no plain folder", seed, dir)
				}
			}
			if known < min(4, len(fresh)) {
				t.Fatalf("seed %d: only %d folders are known", seed, known)
			}
		}
		check("walked", folders)
		var changed, fresh []string
		for _, dir := range folders[:min(len(folders), 5)] {
			if _, entered := tree.folders[withoutDot(dir)]; entered {
				fresh = append(fresh, dir)
			}
			name := path.Join(dir, fmt.Sprintf("file%d.c", random.Intn(9)))
			full := filepath.Join(root, name)
			if os.Remove(full) != nil {
				if err := os.WriteFile(full, nil, 0o644); err != nil {
					t.Fatal(err)
				}
			}
			changed = append(changed, name)
		}
		if err := tree.Update(changed); err != nil {
			t.Fatal(err)
		}
		// A change that nobody tells must not be answered from what was read before.
		if err := os.WriteFile(filepath.Join(root, folders[len(folders)-1], "file1.c"), nil, 0o644); err != nil {
			t.Fatal(err)
		}
		check("updated", fresh)
	}
}

// A link is nothing that the walk answers for: what is behind it may be outside.
func TestTheWalkDoesNotAnswerForLinks(t *testing.T) {
	root, outside := testtree.Lay(t, map[string]string{"kiln/Makefile": "all:\n"}), testtree.Lay(t, map[string]string{"secret/x.c": ""})
	if err := os.Symlink(filepath.Join(outside, "secret"), filepath.Join(root, "kiln", "src")); err != nil {
		t.Fatal(err)
	}
	tree := Walk{Root: root, Wants: func(_, _ string) bool { return true }}.Prepare()
	if err := tree.Run(); err != nil {
		t.Fatal(err)
	}
	if list, known := tree.List("kiln/src"); known {
		t.Errorf("behind the link is %v", list)
	}
	if _, known := tree.Has("kiln", "src"); known {
		t.Error("the link itself is known, though what it leads to is not")
	}
	if tree.Plain("kiln/src") {
		t.Error("the link is taken for a folder")
	}
	if _, known := tree.Has("kiln/src", "x.c"); known {
		t.Error("a file behind the link is known")
	}
	if list, known := tree.List("kiln/lib"); !known || len(list) > 0 {
		t.Errorf("a folder that is not there: %v, %v", list, known)
	}
}

// What is ignored is counted to the last file: deeper than a worker keeps folders
// open, with links that lead round, and with names of any bytes.
func TestKeptOutFilesAreAllCounted(t *testing.T) {
	root := testtree.Lay(t, map[string]string{"package.json": "{}"})
	at := filepath.Join(root, "node_modules")
	for depth := range 3 * maxOpen {
		at = filepath.Join(at, fmt.Sprintf("deep%d", depth))
		if err := os.MkdirAll(filepath.Join(at, "side"), 0o755); err != nil {
			t.Fatal(err)
		}
		for _, name := range []string{"a.js", "side/b\nc.js", "side/\xff.js"} {
			if err := os.WriteFile(filepath.Join(at, name), nil, 0o644); err != nil {
				t.Fatal(err)
			}
		}
	}
	if err := os.Symlink(filepath.Join(root, "node_modules"), filepath.Join(at, "round")); err != nil {
		t.Fatal(err)
	}
	want := 0
	err := filepath.WalkDir(filepath.Join(root, "node_modules"), func(_ string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			want++
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	for range 5 { // several workers share the counting
		seen := walk(t, root)
		if len(seen.Skipped) != 1 || seen.Skipped[0].Files != want || seen.Skipped[0].More {
			t.Fatalf("counted %+v, want %d files", seen.Skipped, want)
		}
	}
}
