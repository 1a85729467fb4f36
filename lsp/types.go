package lsp

import "encoding/json"

// The parts of the Language Server Protocol, 3.17, that the server speaks. Names are those of the
// specification.

type position struct {
	Line      int `json:"line"`      // from 0
	Character int `json:"character"` // from 0, in the negotiated encoding
}

type span struct { // Range
	Start position `json:"start"`
	End   position `json:"end"`
}

type location struct {
	URI   string `json:"uri"`
	Range span   `json:"range"`
}

type initializeParams struct {
	ProcessID        int               `json:"processId"`
	RootURI          string            `json:"rootUri"`
	RootPath         string            `json:"rootPath"`
	WorkspaceFolders []workspaceFolder `json:"workspaceFolders"`
	Capabilities     struct {
		General struct {
			PositionEncodings []string `json:"positionEncodings"`
		} `json:"general"`
		Window struct {
			WorkDoneProgress bool `json:"workDoneProgress"`
			ShowDocument     struct {
				Support bool `json:"support"`
			} `json:"showDocument"`
		} `json:"window"`
		Workspace struct {
			CodeLens struct {
				RefreshSupport bool `json:"refreshSupport"`
			} `json:"codeLens"`
		} `json:"workspace"`
	} `json:"capabilities"`
}

type workspaceFolder struct {
	URI  string `json:"uri"`
	Name string `json:"name"`
}

type textDocument struct {
	URI     string `json:"uri"`
	Version *int   `json:"version,omitempty"`
	Text    string `json:"text,omitempty"`
}

type documentParams struct {
	TextDocument textDocument `json:"textDocument"`
	Text         *string      `json:"text"` // of didSave
}

type changeParams struct {
	TextDocument   textDocument `json:"textDocument"`
	ContentChanges []struct {
		Range *span  `json:"range"`
		Text  string `json:"text"`
	} `json:"contentChanges"`
}

type positionParams struct {
	TextDocument textDocument `json:"textDocument"`
	Position     position     `json:"position"`
	Context      struct {
		IncludeDeclaration bool `json:"includeDeclaration"`
	} `json:"context"`
	NewName string `json:"newName"`
}

type rangeParams struct {
	TextDocument textDocument `json:"textDocument"`
	Range        span         `json:"range"`
}

type diagnostic struct {
	Range    span                 `json:"range"`
	Severity int                  `json:"severity"` // 1 error, 2 warning, 3 information
	Code     string               `json:"code,omitempty"`
	Source   string               `json:"source,omitempty"`
	Message  string               `json:"message"`
	Tags     []int                `json:"tags,omitempty"` // 1 unnecessary, 2 deprecated
	Related  []relatedInformation `json:"relatedInformation,omitempty"`
}

type relatedInformation struct {
	Location location `json:"location"`
	Message  string   `json:"message"`
}

type publishParams struct {
	URI         string       `json:"uri"`
	Version     *int         `json:"version,omitempty"`
	Diagnostics []diagnostic `json:"diagnostics"`
}

type textEdit struct {
	Range   span   `json:"range"`
	NewText string `json:"newText"`
}

type completionItem struct {
	Label         string    `json:"label"`
	Kind          int       `json:"kind"`
	Detail        string    `json:"detail,omitempty"`
	Documentation string    `json:"documentation,omitempty"`
	FilterText    string    `json:"filterText,omitempty"`
	TextEdit      *textEdit `json:"textEdit,omitempty"`
}

// Kinds of completion items.
const (
	itemProperty  = 10
	itemValue     = 12
	itemFile      = 17
	itemReference = 18
	itemModule    = 9
)

type completionList struct {
	IsIncomplete bool             `json:"isIncomplete"`
	Items        []completionItem `json:"items"`
}

type markup struct {
	Kind  string `json:"kind"`
	Value string `json:"value"`
}

type hover struct {
	Contents markup `json:"contents"`
	Range    span   `json:"range"`
}

type documentSymbol struct {
	Name           string           `json:"name"`
	Detail         string           `json:"detail,omitempty"`
	Kind           int              `json:"kind"`
	Range          span             `json:"range"`
	SelectionRange span             `json:"selectionRange"`
	Children       []documentSymbol `json:"children,omitempty"`
}

type command struct {
	Title     string `json:"title"`
	Command   string `json:"command"`
	Arguments []any  `json:"arguments,omitempty"`
}

type codeLens struct {
	Range   span    `json:"range"`
	Command command `json:"command"`
}

type codeAction struct {
	Title   string  `json:"title"`
	Kind    string  `json:"kind"`
	Command command `json:"command"`
}

type executeParams struct {
	Command   string            `json:"command"`
	Arguments []json.RawMessage `json:"arguments"`
}

// Kinds of messages of window/showMessage.
const (
	messageError   = 1
	messageWarning = 2
	messageInfo    = 3
)

type messageParams struct {
	Type    int    `json:"type"`
	Message string `json:"message"`
}
