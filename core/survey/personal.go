package survey

import (
	"os"
	"path"
	"path/filepath"

	"tidytally/core/files"
	"tidytally/core/reader/declare"
	"tidytally/core/reader/editorfile"
	"tidytally/core/task"
	"tidytally/core/workspace"
)

// The user's own tasks for every workspace are under the configuration folder (XDG
// Base Directory Specification): a tally file, and the task files of editors. The
// paths of these files are absolute.

// maxPersonal bounds the folders that are looked into.
const maxPersonal = 500

// PersonalFile returns the path of the user's own tally file, which need not exist;
// "" if the user has no configuration folder.
func PersonalFile() string {
	config, err := os.UserConfigDir()
	if err != nil {
		return ""
	}
	return filepath.Join(config, "tidytally", workspace.TallyFile)
}

// readPersonal reads the user's own tasks.
func readPersonal(ws *declare.Workspace) map[string]*fileState {
	states := map[string]*fileState{}
	own := PersonalFile()
	if own == "" {
		return states
	}
	if data, err := readOutside(own); err == nil {
		state := &fileState{}
		state.readTally(ws, own, data)
		states[own] = state
	} else if !os.IsNotExist(err) {
		states[own] = &fileState{kept: kept{Found: []declare.Found{{Faults: []task.Fault{{File: own, Message: err.Error()}}}}}}
	}
	config := filepath.Dir(filepath.Dir(own))
	folders, err := files.List(config)
	if err != nil {
		return states
	}
	for _, folder := range folders[:min(len(folders), maxPersonal)] {
		dir := filepath.Join(config, folder.Name())
		entries, err := files.List(dir)
		if err != nil || dir == filepath.Dir(own) {
			continue
		}
		for _, e := range entries {
			name := path.Join(dir, e.Name())
			if !e.Type().IsRegular() || !editorfile.Wants(e.Name()) {
				continue
			}
			data, err := readOutside(name)
			if err != nil {
				continue // somebody else's file, and perhaps no task file at all
			}
			if found := editorfile.Read(ws.File(name, data)); len(found.Tasks) > 0 {
				states[name] = &fileState{kept: kept{
					Found: []declare.Found{found},
					Read:  []Read{{Path: name, Source: "editor", Tasks: len(found.Tasks), Faults: len(found.Faults)}},
				}}
			}
		}
	}
	return states
}

// readOutside reads a file of the user as a declaration is read: a regular file, and
// not too large. A link may lead to it from anywhere.
func readOutside(name string) ([]byte, error) {
	real, err := filepath.EvalSymlinks(name)
	if err != nil {
		return nil, err
	}
	return workspace.ReadDeclaration(filepath.Dir(real), filepath.Base(real))
}
