package tallyfile_test

import (
	"fmt"

	"tidytally/core/tallyfile"
)

// A mistake costs the value that it is in, and has its place.
func ExampleParse() {
	f := tallyfile.Parse("tidytally.toml", []byte(`
[task.controller]
run  = "make -j2 controller"
knd  = "build"
[task.sweep]
run  = ["make", "clean"]
`))
	for _, t := range f.Tasks {
		fmt.Println(t.ID(), "runs", t.Command)
	}
	for _, fault := range f.Faults {
		fmt.Println(fault)
	}
	// Output:
	// tidytally.toml#controller runs make -j2 controller
	// tidytally.toml#sweep runs make clean
	// tidytally.toml:4:1: unknown key of [task]: knd; did you mean kind?
}

// Values are changed in place; the rest of the file stays as it is.
func ExamplePut() {
	changed, err := tallyfile.Put([]byte("# ours\n[workspace]\nname = \"emberclay\" # the studio\n"), "usual", "kiln/Makefile#controller")
	fmt.Printf("%s%v\n", changed, err)
	// Output:
	// # ours
	// [workspace]
	// name = "emberclay" # the studio
	// usual = "kiln/Makefile#controller"
	// <nil>
}
