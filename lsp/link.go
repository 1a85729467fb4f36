package lsp

import (
	"path/filepath"

	"tidytally/core/hand"
	"tidytally/core/survey"
)

// link is the connection to a Tidy Tally that is open on the same workspace.
type link struct {
	space  *space
	editor *hand.Editor // nil while there is none
	last   string       // the file in hand, absolute
}

func newLink(w *space) *link { return &link{space: w} }

// inHand tells the Tidy Tally of a file's workspace that it was opened or saved.
func (s *Server) inHand(path string) {
	w, rel := s.spaceOf(path)
	if w == nil || w.link == nil || w.link.last == path {
		return
	}
	if !survey.Wants(filepath.Base(rel)) { // what is declared there is for another file
		w.session.Choose(path, 0)
	}
	w.link.last = path
	w.link.tell()
}

// tell tells which file is in hand, and connects first where it must.
func (h *link) tell() {
	if h.last == "" {
		return
	}
	if h.editor == nil && !h.join() {
		return
	}
	if h.editor.Took(h.last, h.space.client.Capabilities.Window.ShowDocument.Support) != nil {
		h.close()
	}
}

func (h *link) join() bool {
	w := h.space
	var joined *hand.Editor
	joined, err := hand.Join(w.root, func(m hand.Message) {
		w.do(func() { w.showPlace(m) })
	}, func() {
		w.do(func() {
			if h.editor == joined {
				h.editor = nil
			}
		})
	})
	if err != nil {
		return false // none is open
	}
	h.editor = joined
	return true
}

// showPlace shows a place in the client.
func (w *space) showPlace(m hand.Message) {
	if w.state != running || !w.client.Capabilities.Window.ShowDocument.Support {
		return
	}
	at := position{max(0, m.Line-1), max(0, m.Column-1)}
	w.ask("window/showDocument", map[string]any{"uri": w.uri(m.Show), "takeFocus": true, "selection": span{at, at}})
}

func (h *link) close() {
	if h.editor != nil {
		h.editor.Close()
		h.editor = nil
	}
}
