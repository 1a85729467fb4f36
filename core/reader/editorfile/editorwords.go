package editorfile

import (
	"path"
	"strings"
	"unicode"

	"tidytally/core/task"
)

// meaning is the meaning of a key of an entry.
type meaning int

const (
	meansUnknown meaning = iota
	meansName
	meansCommand
	meansArgs
	meansFolder
	meansEnv
	meansEnvFile
	meansPath
	meansAbout
	meansKind
	meansUsual
	meansLongRunning
	meansFiles
	meansShow
	meansReady
	meansTimeout
	meansOrder
	meansBefore
	meansWith
	meansOutput
	meansVariants
	meansNothing // known, and of no use here
)

// meanings are the keys by their words, written together in small letters. The
// whole key is looked up first, then its last word.
var meanings = map[string]meaning{}

// commandKeys are the keys that may hold a command, the surest first.
var commandKeys = strings.Fields("command cmd commandline shellcommand commands steps run exec execute runs invoke do call perform launch program executable binary script line action shell")

func init() {
	for m, list := range map[meaning]string{
		meansCommand:     strings.Join(commandKeys, " "),
		meansName:        "name title label caption id displayname taskname heading called",
		meansArgs:        "args arguments argv arg parameters params flags withargs",
		meansFolder:      "cwd dir directory folder workingdir workingdirectory workingfolder workdir where in at runin location startin basedir",
		meansEnv:         "env environment environ vars variables envvars",
		meansEnvFile:     "envfile dotenv environmentfile",
		meansPath:        "path paths searchpath pathprepend prependpath extrapath addpath addtopath",
		meansAbout:       "about description detail details comment help tooltip hint doc documentation summary note notes info explanation",
		meansKind:        "kind group category type tag role purpose",
		meansUsual:       "usual default isdefault primary preferred main",
		meansLongRunning: "standing background watch watching iswatching persistent keepalive daemon staysup staysrunning longrunning continuous forever endless",
		meansFiles:       "for files filetypes filetype extensions extension filepatterns filepattern filemask selector languages language scope glob globs appliesto matches suffixes syntax",
		meansShow:        "show reveal showoutput display openoutput showpanel panel outputpanel showwhen popup bringup",
		meansReady:       "ready readypattern readywhen readyline waitfor upwhen",
		meansTimeout:     "timeout timelimit maxtime maxduration",
		meansOrder:       "order sequence dependsorder dependencyorder mode",
		meansBefore:      "before depends dependencies dependency needs requires first prerequisites prerequisite previous prior runbefore prebuild pre pretask pretasks after runafter",
		meansWith:        "with beside alongside together parallel inparallel sidebyside concurrently companions",
		meansOutput:      "regex regexp pattern patterns matcher expression expr errors errorpattern errorexpression errorregex fileregex lineregex outputpattern outputregex outputexpression problempattern diagnostics parse readoutput",
		meansVariants:    "variants variant flavors flavours alternatives versions modes subcommands",
		meansNothing:     "version schema enabled icon color colour key keybinding shortcut hotkey priority uuid quiet echo focus clear close",
	} {
		for _, w := range strings.Fields(list) {
			meanings[w] = m
		}
	}
}

// commandRank returns the position of a key in commandKeys, which is how sure it is.
func commandRank(key string) int {
	key = joined(key)
	for i, k := range commandKeys {
		if k == key {
			return i
		}
	}
	return len(commandKeys)
}

// meaningOf returns the meaning of a key.
func meaningOf(key string) meaning {
	words := wordsOf(key)
	if m, ok := meanings[strings.Join(words, "")]; ok {
		return m
	}
	if len(words) > 1 {
		last := meanings[words[len(words)-1]]
		switch last {
		case meansName, meansCommand, meansArgs, meansFolder, meansEnv, meansAbout, meansOutput, meansVariants, meansTimeout, meansLongRunning:
			return last
		}
		switch first := meanings[words[0]]; {
		case words[0] == "env", words[0] == "environment":
			return meansEnv
		case words[0] == "error", words[0] == "problem":
			return meansOutput
		case first == meansBefore:
			return first
		}
	}
	return meansUnknown
}

// fileWords are names of files that hold tasks, and taskWords the keys of their
// tables.
var (
	fileWords = setOf("task tasks job jobs build builds builder builders command commands runner runners")
	taskWords = setOf("task tasks job jobs build builds builder builders command commands cmd cmds script scripts target targets recipe recipes " +
		"runner runners run runs action actions chore chores verb verbs tool tools entry entries item items work works activity activities")
	verbWords = setOf("build run clean test rebuild debug check install start compile deploy lint format prepare serve stop")
	// systems are keys for one operating system; Go's names for it.
	systems = map[string]string{
		"windows": "windows", "win": "windows", "win32": "windows", "linux": "linux", "osx": "darwin", "macos": "darwin", "mac": "darwin", "darwin": "darwin",
		"unix": "linux darwin freebsd openbsd netbsd", "posix": "linux darwin freebsd openbsd netbsd", "bsd": "freebsd openbsd netbsd",
	}
	// deniedWords are words of keys whose entries have commands but are no tasks.
	deniedWords = setOf("server servers service services container containers step steps stage stages hook hooks plugin plugins extension extensions " +
		"linter linters formatter formatters keybinding keybindings keymap keymaps menu menus language languages lsp debugger debuggers launch launchers " +
		"snippet snippets abbreviation abbreviations model models agent agents terminal terminals image images volume volumes provider providers " +
		"dependency dependencies package packages contributes contributions schedule schedules cron workflow workflows pipeline pipelines healthcheck " +
		"probe probes alias aliases completion completions theme themes detector detectors history recent adapter adapters profile profiles session sessions " +
		"on trigger triggers jobs_matrix event events rule rules notification notifications prompt prompts toolbar statusbar " +
		"initializer entrypoint lifecycle monitor monitors window windows pane panes properties definitions")
	// deniedKeys are keys that an entry of another purpose has.
	deniedKeys = setOf("uses runson image stage steps request registry event events trigger triggers when register become notify hosts handlers " +
		"rollforward replicas livenessprobe containers stages on rules only except mimetype keybinding keys chord capabilities activationevents transport url")
	// foreignKeys are keys of the outermost table of files of other purposes.
	foreignKeys = setOf("on stages steps workflows workflow pipelines pipeline orbs trigger triggers services apiversion runson repos plugins " +
		"image pool hosts agent blocks promotions mcpservers lockfileversion openapi swagger asyncapi resources provider terraform contributes engines repositories")
	problemFields = map[string]string{
		"file": "file", "filename": "file", "path": "file", "line": "line", "row": "line", "linenumber": "line", "column": "column", "col": "column", "character": "column",
		"severity": "severity", "level": "severity", "type": "severity", "kind": "severity", "code": "code", "message": "message", "text": "message", "msg": "message",
	}
)

func setOf(list string) map[string]bool {
	m := map[string]bool{}
	for _, w := range strings.Fields(list) {
		m[w] = true
	}
	return m
}

func isVerb(key string) bool { return verbWords[joined(key)] }

// isTaskWord reports whether a key holds tasks.
func isTaskWord(key string) bool {
	for _, w := range wordsOf(key) {
		if taskWords[w] {
			return true
		}
	}
	return false
}

// deniedContainer reports whether a key holds no tasks, even if it has commands.
func deniedContainer(key string) bool {
	for _, w := range wordsOf(key) {
		if deniedWords[w] {
			return true
		}
	}
	return false
}

// wordsOf splits a key or a name where its case changes and at characters that are
// not letters.
func wordsOf(key string) (words []string) {
	runes := []rune(key)
	start := -1
	flush := func(end int) {
		if start >= 0 {
			words = append(words, strings.ToLower(string(runes[start:end])))
		}
		start = -1
	}
	for i, r := range runes {
		switch {
		case !unicode.IsLetter(r) && !unicode.IsDigit(r):
			flush(i)
		case start < 0:
			start = i
		case unicode.IsUpper(r) && (unicode.IsLower(runes[i-1]) || i+1 < len(runes) && unicode.IsLower(runes[i+1])):
			flush(i)
			start = i
		}
	}
	flush(len(runes))
	return words
}

func joined(key string) string { return strings.Join(wordsOf(key), "") }

func lastWord(key string) string {
	words := wordsOf(key)
	if len(words) == 0 {
		return ""
	}
	return words[len(words)-1]
}

// kindFrom returns the kind that an entry's text names.
func kindFrom(text string) task.Kind {
	for _, k := range task.Kinds {
		if strings.EqualFold(string(k), text) {
			return k
		}
	}
	if k := task.KindOf(text); k != task.Other {
		return k
	}
	return ""
}

// showFrom reads when output is to be shown.
func showFrom(text string) string {
	words := joined(text)
	for _, w := range []string{"problem", "error", "fail", "silent"} {
		if strings.Contains(words, w) {
			return "on-problem"
		}
	}
	switch words {
	case "never", "false", "no", "off", "hidden", "none":
		return "never"
	}
	return "always"
}

// languageFiles are the files of languages by the names that people give them.
var languageFiles = map[string]string{
	"c": "*.c", "cpp": "*.cpp", "c++": "*.cpp", "cxx": "*.cpp", "python": "*.py", "go": "*.go", "golang": "*.go", "rust": "*.rs", "java": "*.java", "kotlin": "*.kt",
	"javascript": "*.js", "typescript": "*.ts", "ruby": "*.rb", "perl": "*.pl", "php": "*.php", "lua": "*.lua", "shell": "*.sh", "bash": "*.sh", "fortran": "*.f90",
	"haskell": "*.hs", "ocaml": "*.ml", "latex": "*.tex", "tex": "*.tex", "markdown": "*.md", "html": "*.html", "css": "*.css", "csharp": "*.cs", "swift": "*.swift",
}

// globsFrom returns file name patterns for what an entry is for: patterns, endings,
// or languages.
func globsFrom(texts []string) (globs []string) {
	for _, s := range texts {
		s = strings.ToLower(strings.TrimSpace(s))
		switch last := s[strings.LastIndexByte(s, '.')+1:]; {
		case strings.ContainsAny(s, "*?"):
			globs = append(globs, path.Base(s))
		case strings.HasPrefix(s, "."):
			globs = append(globs, "*"+s)
		case languageFiles[s] != "":
			globs = append(globs, languageFiles[s])
		case languageFiles[last] != "":
			globs = append(globs, languageFiles[last])
		case s != "" && len(s) <= 5:
			globs = append(globs, "*."+s)
		default:
			globs = append(globs, s)
		}
	}
	return globs
}
