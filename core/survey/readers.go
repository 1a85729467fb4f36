package survey

// readers has a row for each kind of declaration. The tally file is read by a
// package of its own, as more than tasks stands in it.
var readers = []Reader{
	{Source: "make", Wants: makeWants, Read: readMake},
	{Source: "npm", Wants: npmWants, Read: readNpm},
	{Source: "go", Wants: goWants, Read: readGo},
	{Source: "cargo", Wants: cargoWants, Read: readCargo},
	{Source: "cargo", WantsAt: cargoConfigWantsAt, Read: readCargoConfig},
	{Source: "cmake", Wants: cmakeWants, Read: readCMake},
	{Source: "cmake", Wants: presetsWants, Read: readPresets},
	{Source: "ninja", Wants: ninjaWants, Read: readNinja},
	{Source: "meson", Wants: mesonWants, Read: readMeson},
	{Source: "maven", Wants: mavenWants, Read: readMaven},
	{Source: "gradle", Wants: gradleWants, Read: readGradle},
	{Source: "ant", Wants: antWants, Read: readAnt},
	{Source: "rake", Wants: rakeWants, Read: readRake},
	{Source: "composer", Wants: composerWants, Read: readComposer},
	{Source: "python", Wants: pythonWants, Read: readPython},
	{Source: "devcontainer", Wants: devcontainerWants, Read: readDevcontainer},
	{Source: "taught", Wants: configuredWants, Read: readConfigured},
	{Source: "taught", Wants: tsconfigWants, Read: readTSConfig},
	{Source: "editor", Wants: editorWants, WantsAt: inDotFolder, Last: true, Read: readEditor},
	{Source: "script", Wants: scriptWants, Head: scriptHead, Read: readScript},
}
