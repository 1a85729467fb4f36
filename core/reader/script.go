package reader

import (
	"bytes"
	"path"
	"slices"
	"strings"

	"tidytally/core/reader/declare"
	"tidytally/core/task"
	"tidytally/internal/lazyregexp"
)

// Scripts are files that begin with "#!" and an interpreter (execve(2)).

// scriptHead is how many bytes of a file are read to tell whether it is one.
// Licences may stand before what it does.
const scriptHead = 2048

func scriptWants(name string) bool {
	switch path.Ext(name) {
	case ".sh", ".bash", ".zsh", ".py", ".pl", ".rb", ".mjs", ".js", ".php", ".lua", ".tcl", ".awk":
		return true
	case "":
		switch name {
		case "Makefile", "makefile", "GNUmakefile", "LICENSE", "README", "COPYING", "Dockerfile", "Rakefile", "Gemfile", "gradlew", "mvnw", "install-sh", "missing", "depcomp", "compile", "config.guess", "config.sub", "ltmain.sh", "test-driver":
			return false
		}
		return name[0] != '.'
	}
	return false
}

func readScript(f *declare.File) (found declare.Found) {
	rest, ok := bytes.CutPrefix(f.Data, []byte("#!"))
	if !ok {
		return found
	}
	head, body, _ := bytes.Cut(rest, []byte("\n"))
	words := strings.Fields(strings.TrimSuffix(string(head), "\r"))
	if len(words) == 0 || !strings.HasPrefix(words[0], "/") {
		return found
	}
	interpreter := path.Base(words[0])
	argv := []string{words[0]}
	if interpreter == "env" {
		words = words[1:]
		for len(words) > 0 && (strings.HasPrefix(words[0], "-") || strings.Contains(words[0], "=")) {
			words = words[1:]
		}
		if len(words) == 0 {
			return found
		}
		interpreter, argv = path.Base(words[0]), []string{words[0]}
	}
	if interpreter == "make" {
		return found // a makefile
	}
	dir, name := path.Dir(f.Path), path.Base(f.Path)
	t := &task.Task{
		Name: name, Source: "script", File: f.Path, Line: 1, Manner: task.Inferred, Dir: ".", About: declare.Shorten(scriptAbout(body)),
		Kind: task.KindOf(strings.TrimSuffix(name, path.Ext(name))), Command: task.Command{Argv: append(argv, f.Path)},
		// What lies with other people's code is theirs.
		Hidden: foreign(dir),
	}
	if f.Executable(f.Path) {
		t.Command = task.Command{Argv: []string{"./" + f.Path}}
	}
	if name == "configure" { // it configures the folder that it is run in
		t.Dir, t.Kind, t.Command.Argv[len(t.Command.Argv)-1] = dir, task.Build, "./configure"
		if len(t.Command.Argv) > 1 {
			t.Command.Argv[len(t.Command.Argv)-1] = "configure"
		}
	}
	if t.Kind == task.Other {
		t.Kind = task.Run
	}
	t.SetOrigin("command", task.Origin{File: f.Path, Line: 1, Manner: task.Inferred, Note: "its interpreter is " + interpreter})
	found.Tasks = append(found.Tasks, t)
	return found
}

// foreign reports whether a folder holds other people's code, or data.
func foreign(dir string) bool {
	for _, part := range strings.Split(dir, "/") {
		switch part {
		case "third_party", "vendor", "vendored", "testdata", "fixtures":
			return true
		}
	}
	return false
}

// scriptAbout returns the first sentence of the comment or docstring that a script begins with.
// Paragraphs that say who wrote it, and what one may do with it, are passed over.
func scriptAbout(body []byte) string {
	var paragraph []string
	end := "" // of a block that has begun
	for l := range strings.Lines(string(body)) {
		text, comment := strings.TrimSpace(l), true
		if end == "" && (strings.HasPrefix(text, "/*") || strings.HasPrefix(text, `"""`) || strings.HasPrefix(text, "'''")) {
			if about := firstSentence(paragraph); about != "" {
				return about
			}
			paragraph = nil
		}
		switch {
		case end != "":
			before, _, ended := strings.Cut(text, end)
			text = strings.TrimSpace(strings.TrimLeft(before, "*"))
			if ended {
				end = ""
				paragraph = append(paragraph, text)
				text = ""
			}
		case strings.HasPrefix(text, "/*"):
			end, text = "*/", strings.TrimLeft(text, "/*! ")
			if before, _, ended := strings.Cut(text, end); ended {
				end, text = "", strings.TrimSpace(before)
			}
		case strings.HasPrefix(text, `"""`) || strings.HasPrefix(text, "'''"):
			end, text = text[:3], text[3:]
			if before, _, ended := strings.Cut(text, end); ended {
				end, text = "", before
			}
		case strings.HasPrefix(text, "#"), strings.HasPrefix(text, "//"), strings.HasPrefix(text, "--"):
			text = strings.TrimSpace(strings.TrimLeft(text, "#/!-"))
		case text == "<?php":
			continue
		default:
			comment = text == ""
			text = ""
		}
		if strings.Trim(text, "-=*# ") == "" {
			if about := firstSentence(paragraph); about != "" || !comment {
				return about
			}
			paragraph = nil
			continue
		}
		paragraph = append(paragraph, text)
	}
	return firstSentence(paragraph)
}

// toolWords are words, in small letters, of lines that say nothing of what a script does, and
// licenceWords of paragraphs.
var (
	toolWords    = []string{"copyright", "spdx-", "shellcheck ", "coding:", "-*-", "vim:", "pylint:", "eslint", "$id", "@author"}
	licenceWords = []string{
		"all rights reserved", "governed by a", "licen", "free software", "required by applicable law", "distributed in the hope", "should have received a copy",
		"permission is hereby granted", "permission to use, copy", "redistribution", "\"as is\"", "express or implied", "implied warrant",
	}
)

func holdsAny(text string, words []string) bool {
	text = strings.ToLower(text)
	return slices.ContainsFunc(words, func(w string) bool { return strings.Contains(text, w) })
}

// sentenceEnd matches the end of a sentence before another one.
var sentenceEnd = lazyregexp.New(`[\pL\pN)"'` + "`" + `]{2}[.!?] +\p{Lu}`)

// firstSentence joins the lines of a paragraph and cuts it behind its first sentence; "" if it is
// about a licence.
func firstSentence(lines []string) string {
	text := strings.TrimSpace(strings.Join(slices.DeleteFunc(lines, func(l string) bool { return holdsAny(l, toolWords) }), " "))
	if holdsAny(text, licenceWords) || strings.HasPrefix(strings.ToLower(text), "author") || slices.Contains([]string{"XXX", "TODO", "FIXME"}, strings.Trim(text, ":. ")) {
		return ""
	}
	if at := sentenceEnd().FindStringIndex(text); at != nil {
		return text[:at[0]+strings.IndexAny(text[at[0]:], ".!?")+1]
	}
	return text
}
