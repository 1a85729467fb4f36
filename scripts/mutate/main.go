// Command mutate plants small faults into packages, one at a time, runs their tests
// and counts the faults that no test found:
//
//	go run ./scripts/mutate -n 40 ./core/problem ./core/task
//
// It prints each fault that lived, and for each package how many were found. The files
// of the packages stay as they are: the compiler is given an overlay.
package main

import (
	"bytes"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"math/rand"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"
)

// fault is a change of one file.
type fault struct {
	file     string
	line     int
	from, to int // bytes of the file that are replaced
	text     string
	what     string
}

// String is the line that tells that the fault lived.
func (f fault) String() string { return fmt.Sprintf("lived %s:%d %s\n", f.file, f.line, f.what) }

func main() {
	number := flag.Int("n", 0, "how many faults for each package, chosen at random; 0 for all")
	seed := flag.Int64("seed", 1, "the seed of the choice")
	again := flag.String("again", "", "a file with what an earlier call printed: only the faults that lived are tried")
	then := flag.String("then", "", "a package whose tests are run when those of the package itself do not find the fault")
	limit := flag.Duration("timeout", time.Minute, "how long the tests of one fault may take; longer counts as found")
	flag.Parse()
	all, found := 0, 0
	for _, pkg := range flag.Args() {
		a, f := mutate(pkg, *number, *seed, *again, *then, *limit)
		all, found = all+a, found+f
	}
	if all > 0 {
		fmt.Printf("all: %d of %d found, %d%%\n", found, all, 100*found/all)
	}
}

func mutate(pkg string, number int, seed int64, again, then string, limit time.Duration) (all, found int) {
	files, err := filepath.Glob(filepath.Join(pkg, "*.go"))
	if err != nil || len(files) == 0 {
		fmt.Fprintf(os.Stderr, "%s: no files: %v\n", pkg, err)
		os.Exit(2)
	}
	var faults []fault
	for _, name := range files {
		if !strings.HasSuffix(name, "_test.go") {
			faults = append(faults, faultsOf(name)...)
		}
	}
	if again != "" {
		printed, err := os.ReadFile(again)
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(2)
		}
		faults = slices.DeleteFunc(faults, func(f fault) bool { return !strings.Contains(string(printed), f.String()) })
	}
	if number > 0 && number < len(faults) {
		rand.New(rand.NewSource(seed)).Shuffle(len(faults), func(i, j int) { faults[i], faults[j] = faults[j], faults[i] })
		faults = faults[:number]
	}
	var mu sync.Mutex
	work := make(chan fault)
	var workers sync.WaitGroup
	for range 2 {
		workers.Go(func() {
			for f := range work {
				result := try(f, pkg, limit)
				if result == lived && then != "" {
					result = try(f, then, 4*limit)
				}
				mu.Lock()
				switch result {
				case lived:
					all++
					fmt.Print(f)
				case killed:
					all++
					found++
				}
				mu.Unlock()
			}
		})
	}
	for _, f := range faults {
		work <- f
	}
	close(work)
	workers.Wait()
	if all > 0 {
		fmt.Printf("%s: %d of %d found, %d%%\n", pkg, found, all, 100*found/all)
	}
	return all, found
}

type outcome int

const (
	lived outcome = iota
	killed
	invalid // it does not compile
)

// try runs the tests with a fault.
func try(f fault, pkg string, limit time.Duration) outcome {
	dir, err := os.MkdirTemp("", "mutate-")
	if err != nil {
		panic(err)
	}
	defer os.RemoveAll(dir)
	source, err := os.ReadFile(f.file)
	if err != nil {
		panic(err)
	}
	abs, _ := filepath.Abs(f.file)
	changed := filepath.Join(dir, filepath.Base(f.file))
	overlay, _ := json.Marshal(map[string]map[string]string{"Replace": {abs: changed}})
	for name, data := range map[string][]byte{changed: append(append(bytes.Clone(source[:f.from]), f.text...), source[f.to:]...), dir + "/overlay.json": overlay} {
		if err := os.WriteFile(name, data, 0o644); err != nil {
			panic(err)
		}
	}
	ctx, cancel := context.WithTimeout(context.Background(), limit)
	defer cancel()
	args := []string{"test", "-vet=off", "-count=1", "-failfast", "-timeout", limit.String(), pkg}
	cmd := exec.CommandContext(ctx, "go", args...)
	// In the environment, tests that build the program build it with the fault too.
	cmd.Env = append(os.Environ(), "GOFLAGS=-overlay="+dir+"/overlay.json")
	// A fault in what signals processes must not reach this one.
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	out, err := cmd.CombinedOutput()
	switch {
	case err == nil:
		return lived
	case bytes.Contains(out, []byte("[build failed]")) || bytes.Contains(out, []byte("[setup failed]")):
		return invalid
	}
	return killed
}

// swaps are operators with the one that a mistake would put there.
var swaps = map[token.Token]token.Token{
	token.EQL: token.NEQ, token.NEQ: token.EQL, token.LSS: token.LEQ, token.LEQ: token.LSS, token.GTR: token.GEQ, token.GEQ: token.GTR,
	token.ADD: token.SUB, token.SUB: token.ADD, token.LAND: token.LOR, token.LOR: token.LAND,
}

// faultsOf returns the faults that one file can have.
func faultsOf(name string) (out []fault) {
	fset := token.NewFileSet()
	source, err := os.ReadFile(name)
	if err != nil {
		panic(err)
	}
	file, err := parser.ParseFile(fset, name, source, 0)
	if err != nil {
		panic(err)
	}
	at := func(p token.Pos) int { return fset.Position(p).Offset }
	add := func(from, to token.Pos, text, what string) {
		out = append(out, fault{name, fset.Position(from).Line, at(from), at(to), text, what})
	}
	ast.Inspect(file, func(n ast.Node) bool {
		switch n := n.(type) {
		case *ast.BinaryExpr:
			if to, ok := swaps[n.Op]; ok {
				add(n.OpPos, n.OpPos+token.Pos(len(n.Op.String())), to.String(), fmt.Sprintf("%s for %s", to, n.Op))
			}
		case *ast.IfStmt:
			add(n.Cond.Pos(), n.Cond.End(), "!("+string(source[at(n.Cond.Pos()):at(n.Cond.End())])+")", "the condition is inverted")
		case *ast.BasicLit:
			if v, err := strconv.Atoi(n.Value); n.Kind == token.INT && err == nil {
				add(n.Pos(), n.End(), strconv.Itoa(v+1), fmt.Sprintf("%d for %d", v+1, v))
			}
		case *ast.ExprStmt:
			add(n.Pos(), n.End(), "", "the call is left out")
		case *ast.IncDecStmt:
			add(n.Pos(), n.End(), "", "the count is left out")
		case *ast.AssignStmt:
			if n.Tok != token.DEFINE {
				add(n.Pos(), n.End(), "", "the assignment is left out")
			}
		}
		return true
	})
	return out
}
