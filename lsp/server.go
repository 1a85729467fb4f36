// Package lsp is a language server (Language Server Protocol 3.17): the problems of runs, tasks where they are
// declared, and help with tally files, in any editor.
package lsp

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/sourcegraph/jsonrpc2"

	"tidytally/core/crash"
	"tidytally/core/workspace"
)

// Codes of errors beyond those of JSON-RPC.
const (
	parseError       = jsonrpc2.CodeParseError
	notInitialized   = -32002
	requestCancelled = -32800
)

// Server answers one client. All but its channels belongs to the goroutine of loop.
type Server struct {
	version string
	conn    *jsonrpc2.Conn
	ctx     context.Context
	work    chan func()   // what the loop does next
	gone    chan struct{} // closed when the loop has ended

	state     state
	ready     bool // the client has said initialized: only then it may be told things
	encoding  encoding
	client    initializeParams
	documents map[string]*document // by path
	spaces    []*space
	runs      []*started
	published map[string]string // what the client shows, by URI
	unsent    *round            // of diagnostics, some of which are still to be sent; nil when all were
	stream    *stream
	token     int
	exit      int
}

// state is how far a session has come.
type state int

const (
	fresh state = iota
	running
	shutDown
	ended
)

// maxWaiting bounds the messages that wait to be answered.
const maxWaiting = 1024

// Serve answers a client on in and out until it says exit, or in ends. It returns the exit code of the
// protocol: 0 after a shutdown, else 1. Nothing but the protocol is written to out.
func Serve(in io.Reader, out io.Writer, version string) int {
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	s := &Server{
		version: version, ctx: ctx, work: make(chan func(), maxWaiting), gone: make(chan struct{}),
		encoding: utf16Units, documents: map[string]*document{}, published: map[string]string{}, exit: 1,
	}
	ready := make(chan struct{})
	q := &queue{server: s, ready: ready, waiting: map[jsonrpc2.ID]context.CancelFunc{}}
	s.stream = newStream(in, out)
	s.conn = jsonrpc2.NewConn(ctx, s.stream, q)
	close(ready)
	go s.loop()
	select {
	case <-s.gone:
	case <-s.conn.DisconnectNotify():
		go s.do(func() { s.state = ended })
		select {
		case <-s.gone:
		case <-time.After(endsWithin):
			return 1 // what it started ends with the program
		}
	}
	s.close()
	s.stream.finish(endsWithin)
	return s.exit
}

// endsWithin is how long the server may go on after its client has gone.
const endsWithin = 500 * time.Millisecond

// clientEvery is how often it is looked whether the client's process is still there.
const clientEvery = 500 * time.Millisecond

// followClient ends the session when the client's process, which initialize named, is gone.
func (s *Server) followClient(pid int) {
	if pid <= 0 {
		return
	}
	tick := time.NewTicker(clientEvery)
	defer tick.Stop()
	for {
		select {
		case <-s.gone:
			return
		case <-tick.C:
		}
		if syscall.Kill(pid, 0) == syscall.ESRCH {
			s.conn.Close()
			return
		}
	}
}

// do hands work to the loop. It waits while too much is waiting.
func (s *Server) do(f func()) {
	select {
	case s.work <- f:
	case <-s.gone:
	}
}

// loop does what is to be done, one after the other.
func (s *Server) loop() {
	defer close(s.gone)
	for s.state != ended {
		if s.unsent != nil { // what waits goes first
			select {
			case f := <-s.work:
				s.contained("a message", f)
			default:
				s.contained("diagnostics", s.publishSome)
			}
			continue
		}
		f := <-s.work
		s.contained("a message", f)
	}
}

// contained does a piece of the loop's work. If it panics, the client is told, and nothing else is lost.
func (s *Server) contained(what string, f func()) {
	if err := crash.Contain(what, f); err != nil {
		s.unsent = nil // it may be what panics
		s.log(messageError, err.Error())
	}
}

// close ends all that the server started.
func (s *Server) close() {
	for _, w := range s.spaces {
		w.close()
	}
}

// queue takes messages in their order and hands them to the loop. It is the connection's handler.
type queue struct {
	server  *Server
	ready   chan struct{} // closed when the server has its connection
	waiting map[jsonrpc2.ID]context.CancelFunc
}

// Handle implements jsonrpc2.Handler. It is called by one goroutine.
func (q *queue) Handle(ctx context.Context, conn *jsonrpc2.Conn, req *jsonrpc2.Request) {
	<-q.ready
	s := q.server
	if req.Method == "$/cancelRequest" {
		var p struct {
			ID jsonrpc2.ID `json:"id"`
		}
		if req.Params != nil && json.Unmarshal(*req.Params, &p) == nil {
			if cancel := q.waiting[p.ID]; cancel != nil {
				cancel()
			}
		}
		return
	}
	if req.Notif {
		s.do(func() { s.notified(req) })
		return
	}
	of, cancel := context.WithCancel(ctx)
	q.waiting[req.ID] = cancel
	for id := range q.waiting { // they are few, or the client does not wait for answers
		if len(q.waiting) <= maxWaiting {
			break
		}
		delete(q.waiting, id)
	}
	s.do(func() {
		defer cancel()
		began := time.Now()
		defer func() {
			slog.Debug("answered", "request", req.ID.String(), "method", req.Method, "took", time.Since(began), "cancelled", of.Err() != nil)
		}()
		var result any
		var err error
		if fault := crash.Contain(req.Method, func() { result, err = s.answer(of, req) }); fault != nil {
			err = fault
		}
		if err != nil {
			var fault *jsonrpc2.Error
			if !errors.As(err, &fault) {
				fault = &jsonrpc2.Error{Code: jsonrpc2.CodeInternalError, Message: err.Error()}
			}
			_ = conn.ReplyWithError(ctx, req.ID, fault) // a client that has gone needs none
			return
		}
		_ = conn.Reply(ctx, req.ID, result)
	})
}

func fault(code int64, format string, args ...any) error {
	return &jsonrpc2.Error{Code: code, Message: fmt.Sprintf(format, args...)}
}

// A method answers a request with parameters.
type method func(s *Server, params json.RawMessage) (any, error)

// methods are those that are answered while the session runs.
var methods map[string]method

// of makes a method of a function that takes parameters of a type.
func of[P any](f func(s *Server, p *P) (any, error)) method {
	return func(s *Server, params json.RawMessage) (any, error) {
		var p P
		if err := json.Unmarshal(params, &p); err != nil {
			return nil, fault(jsonrpc2.CodeInvalidParams, "%v", err)
		}
		return f(s, &p)
	}
}

func init() {
	methods = map[string]method{
		"textDocument/completion":     of((*Server).complete),
		"textDocument/hover":          of((*Server).hover),
		"textDocument/definition":     of((*Server).definition),
		"textDocument/references":     of((*Server).references),
		"textDocument/documentSymbol": of((*Server).symbols),
		"textDocument/prepareRename":  of((*Server).prepareRename),
		"textDocument/rename":         of((*Server).rename),
		"textDocument/formatting":     of((*Server).format),
		"textDocument/codeLens":       of((*Server).lenses),
		"textDocument/codeAction":     of((*Server).actions),
		"workspace/executeCommand":    of((*Server).execute),
	}
}

// answer answers a request.
func (s *Server) answer(ctx context.Context, req *jsonrpc2.Request) (any, error) {
	params := json.RawMessage("{}")
	if req.Params != nil && string(*req.Params) != "null" {
		params = *req.Params
	}
	switch {
	case req.Method == "initialize" && s.state == fresh:
		return of((*Server).initialize)(s, params)
	case req.Method == "initialize":
		return nil, fault(jsonrpc2.CodeInvalidRequest, "initialize was sent already")
	case s.state == fresh:
		return nil, fault(notInitialized, "the first request must be initialize")
	case s.state == shutDown:
		return nil, fault(jsonrpc2.CodeInvalidRequest, "after shutdown only exit follows")
	case ctx.Err() != nil:
		return nil, fault(requestCancelled, "cancelled")
	case req.Method == "shutdown":
		s.state, s.exit = shutDown, 0
		s.close()
		return nil, nil
	}
	m := methods[req.Method]
	if m == nil {
		return nil, fault(jsonrpc2.CodeMethodNotFound, "there is no method %s", req.Method)
	}
	return m(s, params)
}

// notified takes a notification. Unknown ones mean nothing.
func (s *Server) notified(req *jsonrpc2.Request) {
	if req.Method == "exit" {
		s.state = ended
		return
	}
	if s.state != running {
		return
	}
	if req.Method == "initialized" {
		s.ready = true
		s.publish()
		return
	}
	if req.Params == nil {
		return
	}
	params := *req.Params
	switch req.Method {
	case "textDocument/didOpen":
		note(params, s.opened)
	case "textDocument/didChange":
		note(params, s.changed)
	case "textDocument/didSave":
		note(params, s.saved)
	case "textDocument/didClose":
		note(params, s.closed)
	case "workspace/didChangeWorkspaceFolders":
		note(params, s.foldersChanged)
	case "window/workDoneProgress/cancel":
		note(params, s.progressCancelled)
	}
}

// note calls f with the parameters of a notification; bad ones are left out.
func note[P any](params json.RawMessage, f func(*P)) {
	var p P
	if json.Unmarshal(params, &p) == nil {
		f(&p)
	}
}

func (s *Server) initialize(p *initializeParams) (any, error) {
	s.client, s.state = *p, running
	go s.followClient(p.ProcessID)
	for _, e := range p.Capabilities.General.PositionEncodings {
		if e := encoding(e); e == utf8Units || e == utf16Units || e == utf32Units {
			s.encoding = e
			break
		}
	}
	var roots []string
	for _, f := range p.WorkspaceFolders {
		roots = append(roots, pathOf(f.URI))
	}
	if len(roots) == 0 && p.RootURI != "" {
		roots = []string{pathOf(p.RootURI)}
	}
	if len(roots) == 0 && p.RootPath != "" {
		roots = []string{p.RootPath}
	}
	if len(roots) == 0 {
		if here, err := os.Getwd(); err == nil {
			roots = []string{here}
		}
	}
	for _, root := range roots {
		s.addRoot(root)
	}
	return map[string]any{
		"serverInfo": map[string]string{"name": "tidytally", "version": s.version},
		"capabilities": map[string]any{
			"positionEncoding":           s.encoding,
			"textDocumentSync":           map[string]any{"openClose": true, "change": 2, "save": map[string]bool{"includeText": false}},
			"completionProvider":         map[string]any{"triggerCharacters": []string{"\"", "'", "#", "[", ".", "=", "/"}},
			"hoverProvider":              true,
			"definitionProvider":         true,
			"referencesProvider":         true,
			"documentSymbolProvider":     true,
			"renameProvider":             map[string]bool{"prepareProvider": true},
			"documentFormattingProvider": true,
			"codeLensProvider":           map[string]bool{"resolveProvider": false},
			"codeActionProvider":         map[string]any{"codeActionKinds": []string{actionKind}},
			"executeCommandProvider":     map[string]any{"commands": commands()},
			"workspace":                  map[string]any{"workspaceFolders": map[string]bool{"supported": true, "changeNotifications": true}},
		},
	}, nil
}

// addRoot opens the workspace of a folder, once.
func (s *Server) addRoot(dir string) {
	root, err := workspace.Root(dir)
	if dir == "" || err != nil {
		s.log(messageWarning, fmt.Sprintf("the folder %s cannot be opened: %v", dir, err))
		return
	}
	if slices.ContainsFunc(s.spaces, func(w *space) bool { return w.root == root }) {
		return
	}
	w, err := newSpace(s, root)
	if err != nil {
		s.log(messageWarning, fmt.Sprintf("the folder %s cannot be opened: %v", dir, err))
		return
	}
	s.spaces = append(s.spaces, w)
}

func (s *Server) foldersChanged(p *struct {
	Event struct{ Added, Removed []workspaceFolder }
},
) {
	for _, f := range p.Event.Removed {
		root, err := workspace.Root(pathOf(f.URI))
		if err != nil {
			root = pathOf(f.URI) // it is there no longer
		}
		s.spaces = slices.DeleteFunc(s.spaces, func(w *space) bool {
			if w.root == root {
				w.close()
				return true
			}
			return false
		})
	}
	for _, f := range p.Event.Added {
		s.addRoot(pathOf(f.URI))
	}
	s.publish()
}

// spaceOf returns the workspace that a file is in, and its path there; nil if it is in none.
func (s *Server) spaceOf(path string) (*space, string) {
	var best *space
	for _, w := range s.spaces {
		if (path == w.root || strings.HasPrefix(path, w.root+"/")) && (best == nil || len(w.root) > len(best.root)) {
			best = w
		}
	}
	if best == nil {
		return nil, ""
	}
	rel, err := filepath.Rel(best.root, path)
	if err != nil {
		return nil, ""
	}
	return best, filepath.ToSlash(rel)
}

// notify tells the client something.
func (s *Server) notify(method string, params any) {
	_ = s.conn.Notify(s.ctx, method, params) // a client that has gone needs nothing
}

func (s *Server) log(kind int, text string) { s.notify("window/logMessage", messageParams{kind, text}) }

func (s *Server) show(kind int, text string) {
	s.notify("window/showMessage", messageParams{kind, text})
}

// ask sends a request whose answer does not matter.
func (s *Server) ask(method string, params any) {
	if _, err := s.conn.DispatchCall(s.ctx, method, params); err != nil {
		return // the client has gone
	}
}

// real returns a path with its links resolved, as workspaces have theirs.
func real(path string) string {
	if full, err := filepath.EvalSymlinks(path); err == nil {
		return full
	}
	if dir, err := filepath.EvalSymlinks(filepath.Dir(path)); err == nil { // it is not saved yet
		return filepath.Join(dir, filepath.Base(path))
	}
	return path
}

func (s *Server) opened(p *documentParams) {
	path := pathOf(p.TextDocument.URI)
	if path == "" {
		return
	}
	path = real(path)
	d := &document{uri: p.TextDocument.URI, path: path, version: p.TextDocument.Version}
	d.set(p.TextDocument.Text)
	s.documents[path] = d
	s.inHand(path)
	s.publishOne(d)
	s.parse(d)
}

// documentOf returns an open document; nil if it is none.
func (s *Server) documentOf(uri string) *document {
	for _, d := range s.documents {
		if d.uri == uri {
			return d
		}
	}
	return nil
}

func (s *Server) changed(p *changeParams) {
	d := s.documentOf(p.TextDocument.URI)
	if d == nil {
		return
	}
	for _, c := range p.ContentChanges {
		d.change(c.Range, c.Text, s.encoding)
	}
	d.version = p.TextDocument.Version
	s.publishOne(d)
	s.parse(d)
}

func (s *Server) saved(p *documentParams) {
	d := s.documentOf(p.TextDocument.URI)
	if d == nil {
		return
	}
	s.inHand(d.path)
	if w, rel := s.spaceOf(d.path); w != nil {
		w.touched(rel)
	}
}

func (s *Server) closed(p *documentParams) {
	if d := s.documentOf(p.TextDocument.URI); d != nil {
		delete(s.documents, d.path)
		for _, w := range s.spaces {
			w.faults = nil
		}
		s.publishOne(d)
	}
}
