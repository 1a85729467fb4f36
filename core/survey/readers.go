package survey

// readers has a row for each kind of declaration. The tally file is read by a
// package of its own, as more than tasks stands in it.
var readers = []Reader{
	{"make", makeWants, readMake},
	{"npm", npmWants, readNpm},
	{"go", goWants, readGo},
	{"cargo", cargoWants, readCargo},
	{"cargo", cargoConfigWants, readCargoConfig},
	{"maven", mavenWants, readMaven},
	{"ant", antWants, readAnt},
	{"ninja", ninjaWants, readNinja},
}
