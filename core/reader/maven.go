package reader

import (
	"path"
	"strings"

	"tidytally/core/reader/declare"
	"tidytally/core/task"
)

// Maven modules (Apache Maven: "POM Reference", "Introduction to the Build
// Lifecycle", "Introduction to Build Profiles").

func mavenWants(name string) bool { return name == "pom.xml" }

var mavenPhases = []struct {
	name, about string
	kind        task.Kind
}{
	{"clean", "Remove what was built", task.Clean},
	{"validate", "Check that the project is right", task.Check},
	{"compile", "Compile the sources", task.Build},
	{"test", "Run the unit tests", task.Test},
	{"package", "Package what was compiled", task.Build},
	{"verify", "Run the integration tests and checks", task.Test},
	{"install", "Install the package for other local projects", task.Build},
	{"deploy", "Copy the package to the remote repository", task.Other},
	{"site", "Make the documentation", task.Build},
}

func readMaven(f *declare.File) (found declare.Found) {
	if strings.Contains("/"+f.Path, "/src/") { // projects that tests are made of
		return found
	}
	project := readXML(f, &found).child("project")
	if project == nil {
		return found
	}
	dir := path.Dir(f.Path)
	program := "mvn"
	for at := dir; ; at = path.Dir(at) {
		if f.Exists(path.Join(at, "mvnw")) {
			program = relativeTo(dir, path.Join(at, "mvnw"))
			break
		}
		if at == "." {
			break
		}
	}
	for _, p := range mavenPhases {
		found.Tasks = append(found.Tasks, &task.Task{
			Name: p.name, Source: "maven", File: f.Path, Line: project.line, Manner: task.Inferred, Dir: dir, About: p.about, Kind: p.kind,
			Command: task.Command{Argv: []string{program, p.name}},
		})
	}
	for _, p := range project.child("profiles").all("profile") {
		id := p.child("id").content()
		if id == "" {
			continue
		}
		found.Tasks = append(found.Tasks, &task.Task{
			Name: "profile " + id, Source: "maven", File: f.Path, Line: p.line, Manner: task.Declared, Dir: dir, Kind: task.Build,
			About: "Verify with the profile " + id, Command: task.Command{Argv: []string{program, "-P", id, "verify"}},
		})
	}
	return found
}

// relativeTo returns the way from a folder to a file, both relative to the
// workspace; a file of the folder itself begins with "./".
func relativeTo(dir, file string) string {
	if dir == "." {
		return "./" + file
	}
	up := ""
	for !strings.HasPrefix(file, dir+"/") {
		up += "../"
		dir = path.Dir(dir)
		if dir == "." {
			return up + file
		}
	}
	rest := strings.TrimPrefix(file, dir+"/")
	if up == "" {
		return "./" + rest
	}
	return up + rest
}
