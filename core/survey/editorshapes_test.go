package survey

import (
	"testing"

	"tidytally/internal/testtree"
)

// Entries are known by their shape: lists of named commands in an entry with a command,
// whatever the key; keys of verb and command word; placeholders in any spelling, whole or
// refused.
func TestShapesOfEditorEntries(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ name, file, text, want string }{
		{
			"named commands in an entry", ".inkpot/jobs.json", `{"jobs": [{"title": "Fire", "cmd": "make fire", "heats": [{"title": "hot", "cmd": "make hot"}, {"title": "cold", "cmd": "make cold"}]}]}`,
			".inkpot/jobs.json#Fire:1 make fire\n.inkpot/jobs.json#Fire%20hot:1 make hot\n.inkpot/jobs.json#Fire%20cold:1 make cold\n",
		},
		{
			"a list under a word of no tasks", ".inkpot/jobs.json", `{"jobs": [{"title": "Ship", "cmd": "scp a b", "steps": [{"name": "pack", "command": "tar c ."}]}]}`,
			".inkpot/jobs.json#Ship:1 scp a b\n",
		},
		{
			"keys of verb and command word", ".gadget/project.json", `{"name": "kiln", "buildCommand": "make", "run_cmd": "./kiln", "theme": "dark"}`,
			".gadget/project.json#kiln%20build:1 make\n.gadget/project.json#kiln%20run:1 ./kiln\n",
		},
		{
			"the same in a table", ".quill/settings.toml", "[project]\nbuild-command = \"make all\"\n\"clean command\" = \"make clean\"\n",
			".quill/settings.toml#build:2 make all\n.quill/settings.toml#clean:3 make clean\n",
		},
		{"one such key is no task", ".quill/settings.toml", "[project]\nbuild-command = \"make all\"\n", ""},
		{
			"placeholders", ".inkpot/jobs.json", `{"jobs": [{"name": "a", "command": "cc -o ${file:dir}/out $FileName$ ${file:frob}", "folder": "$Project$"}, {"name": "b", "command": "ls", "folder": "${root!x}/sub"}]}`,
			".inkpot/jobs.json#a:1 cc -o {file.dir}/out {file.base} {ask.file-frob}\n.inkpot/jobs.json#b:1 ls in {ask.folder}\n",
		},
		{"continuous integration", ".kiln-ci/jobs.json", `{"jobs": [{"name": "a", "command": "make"}]}`, ""},
		{"its pipelines", ".inkpot/pipelines/jobs.json", `{"jobs": [{"name": "a", "command": "make"}]}`, ""},
	} {
		if got := lines(survey(t, map[string]string{c.file: c.text}), "editor"); got != c.want {
			t.Errorf("%s: got\n%swant\n%s", c.name, got, c.want)
		}
	}
	// Asked for by a [teach] table, such configuration is read all the same.
	s := survey(t, map[string]string{".kiln-ci/jobs.json": `{"jobs": [{"name": "a", "command": "make"}]}`})
	testtree.Fill(t, s.Root, map[string]string{"tidytally.toml": "[teach.ci]\nfiles = [\".kiln-ci/jobs.json\"]\nformat = \"jsonc\"\neach = \"$.jobs[*]\"\nname = \"$.name\"\nrun = \"$.command\"\n"})
	if s, err := Of(s.Root); err != nil || len(s.Tasks) != 1 {
		t.Errorf("taught: %v, %s, faults %s", err, brief(s), faults(s))
	}
}
