package reader

import (
	"path"
	"strings"

	"tidytally/core/reader/cmakelists"
	"tidytally/core/reader/declare"
	"tidytally/core/reader/editorfile"
	"tidytally/core/reader/makefile"
)

// All has a row for each kind of declaration. The tally file has a package of its
// own, because it holds more than tasks.
var All = []declare.Reader{
	{Source: "make", Wants: makefile.Wants, Read: makefile.Read},
	{Source: "make", WantsAt: makefile.InDebian, Read: makefile.Read},
	{Source: "autotools", Wants: autotoolsWants, Read: readAutotools},
	{Source: "npm", Wants: npmWants, Read: readNpm},
	{Source: "go", Wants: goWants, Read: readGo},
	{Source: "cargo", Wants: cargoWants, Read: readCargo},
	{Source: "cargo", WantsAt: cargoConfigWantsAt, Read: readCargoConfig},
	{Source: "cmake", Wants: cmakelists.Wants, Read: cmakelists.Read},
	{Source: "cmake", Wants: presetsWants, Read: readPresets},
	{Source: "ninja", Wants: ninjaWants, Read: readNinja},
	{Source: "meson", Wants: mesonWants, Read: readMeson},
	{Source: "maven", Wants: mavenWants, Read: readMaven},
	{Source: "gradle", Wants: gradleWants, Read: readGradle},
	{Source: "ant", Wants: antWants, Read: readAnt},
	{Source: "ant", Wants: antMayWant, Head: antHead, Last: true, Read: readOtherAnt},
	{Source: "rake", Wants: rakeWants, Read: readRake},
	{Source: "cabal", Wants: cabalWants, Read: readCabal},
	{Source: "dune", Wants: duneWants, Read: readDune},
	{Source: "bats", Wants: batsWants, Read: readBats},
	{Source: "composer", Wants: composerWants, Read: readComposer},
	{Source: "python", Wants: pythonWants, Read: readPython},
	{Source: "devcontainer", Wants: devcontainerWants, Read: readDevcontainer},
	{Source: "config", Wants: configuredWants, Read: readConfigured},
	{Source: "config", Wants: tsconfigWants, Read: readTSConfig},
	{Source: "editor", Wants: editorfile.Wants, WantsAt: editorfile.InDotFolder, Last: true, Read: editorfile.Read},
	{Source: "script", Wants: scriptWants, Head: scriptHead, Read: readScript},
}

// noted are files whose presence means something, whatever is in them.
var noted = func() map[string]bool {
	m := map[string]bool{"package.json": true, "Gemfile": true, "CMakeCache.txt": true, "TargetDirectories.txt": true, "configure": true, "configure.ac": true}
	for _, p := range packageManagers {
		for _, lock := range p.locks {
			m[lock] = true
		}
	}
	return m
}()

// Beside reports by its base name whether a reader may look at a file beside the
// one that it reads.
func Beside(name string) bool {
	switch path.Ext(name) {
	case ".go", ".rs", ".mk", ".cmake", ".ninja", ".inc", ".lock", ".json", ".jsonc", ".yaml", ".yml", ".toml", ".xml":
		return true
	}
	return noted[name] || SpecLike(name) || strings.HasPrefix(name, "settings.gradle")
}
