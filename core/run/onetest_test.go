package run

import (
	"errors"
	"os/exec"
	"strings"
	"testing"

	"tidytally/core/problem"
	"tidytally/core/task"
	"tidytally/internal/testtree"
)

// The command for one test keeps what the task's own says of the interpreter and the options, and
// leaves its files and filters out.
func TestCommandsForOneTest(t *testing.T) {
	t.Parallel()
	words := func(s string) task.Command { return task.Command{Argv: strings.Fields(s)} }
	for _, c := range []struct {
		name    string
		of      task.Task
		p       problem.Problem
		want    string
		in      string
		related string
	}{
		{
			"a subtest of Go",
			task.Task{Command: words("go test -race -tags slow -run Old ./..."), Dir: "firing"},
			problem.Problem{Family: "gotest", Test: "TestFire/cone_06", Place: problem.Place{File: "firing/curve/curve_test.go"}},
			"go test -race -tags slow -run '^TestFire$/^cone_06$' .", "firing/curve", "",
		},
		{"Go behind make", task.Task{Command: words("make test"), Dir: "."}, problem.Problem{Family: "gotest", Test: "TestFire"}, "go test -run '^TestFire$' ./...", ".", ""},
		{
			"pytest",
			task.Task{Command: words(".venv/bin/python -m pytest -q tests"), Dir: "glazebook"},
			problem.Problem{Family: "pytest", Test: "TestMix.test_shares[a-1]", Place: problem.Place{File: "glazebook/mix.py"}},
			".venv/bin/python -m pytest 'tests/test_mix.py::TestMix::test_shares[a-1]'", "glazebook", "glazebook/tests/test_mix.py",
		},
		{"pytest without its file", task.Task{Command: words("tox"), Dir: "."}, problem.Problem{Family: "pytest", Test: "test_mix"}, "python3 -m pytest -k test_mix", ".", ""},
		{"cargo", task.Task{Command: words("cargo test --workspace -- --nocapture"), Dir: "."}, problem.Problem{Family: "rust", Test: "tests::heats"}, "cargo test --workspace tests::heats -- --exact", ".", ""},
		{
			"vitest behind npm",
			task.Task{Command: words("npm run test"), ArgLead: []string{"--"}, Script: "vitest --coverage", Dir: "web"},
			problem.Problem{Family: "specs", Test: "kiln > heats (up)", Place: problem.Place{File: "web/src/v.test.ts"}},
			`npm run test -- src/v.test.ts --run -t '^ ?kiln heats \(up\)$'`, "web", "",
		},
		{"jest behind pnpm", task.Task{Command: words("pnpm run test"), Script: "jest", Dir: "."}, problem.Problem{Family: "specs", Test: "kiln › heats", Place: problem.Place{File: "src/heat.js"}}, "pnpm run test t/a.test.js -t '^kiln heats$'", ".", "t/a.test.js"},
		{"mocha", task.Task{Command: words("npm test"), ArgLead: []string{"--"}, Script: "mocha t", Dir: "."}, problem.Problem{Family: "specs", Test: "kiln heats"}, "npm test -- --fgrep 'kiln heats'", ".", ""},
		{
			"node",
			task.Task{Command: words("npm test"), Script: "node --enable-source-maps --test test/*.js", Dir: "."},
			problem.Problem{Family: "nodetest", Test: "kiln > heats", Place: problem.Place{File: "test/a.js"}},
			"node --enable-source-maps --test --test-name-pattern '^heats$' test/a.js", ".", "",
		},
		{"ctest by its build folder", task.Task{Command: words("cmake --build build --target check"), Dir: "."}, problem.Problem{Family: "ctest", Test: "heats.1"}, `ctest --test-dir build --output-on-failure -R '^heats\.1$'`, ".", ""},
		{"braces are no placeholders", task.Task{Command: words("cargo test"), Dir: "."}, problem.Problem{Family: "rust", Test: "m::{root}"}, "cargo test m::{{root}} -- --exact", ".", ""},
	} {
		if c.related != "" {
			c.p.Related = []problem.Related{{Place: problem.Place{File: c.related}}}
		}
		one, err := OneTest(&c.of, &c.p)
		if err != nil {
			t.Errorf("%s: %v", c.name, err)
			continue
		}
		if got := one.Command.String(); got != c.want || one.Dir != c.in {
			t.Errorf("%s: in %s\n%s\nwant, in %s\n%s", c.name, one.Dir, got, c.in, c.want)
		}
	}
	if _, err := OneTest(&task.Task{}, &problem.Problem{Family: "gnu"}); !errors.Is(err, ErrNoTest) {
		t.Errorf("a compiler's problem: %v", err)
	}
	if _, err := OneTest(&task.Task{Name: "t", File: "package.json", Script: "everywhere test"}, &problem.Problem{Family: "specs", Test: "a"}); err == nil || !strings.Contains(err.Error(), "neither vitest, jest nor mocha") {
		t.Errorf("an unknown runner: %v", err)
	}
}

// A test that failed in a whole run is run again alone by the real tools: it fails again, its problem
// is the same one, and no other test runs.
func TestOneTestAloneByTheRealTools(t *testing.T) {
	t.Parallel()
	for tool, c := range map[string]struct {
		files map[string]string
		run   string
	}{
		"go": {map[string]string{
			"go.mod": "module emberclay.example/t\n\ngo 1.22\n",
			"fire/fire_test.go": "package fire\n\nimport \"testing\"\n\nfunc TestFire(t *testing.T) {\n\tt.Run(\"cone 06\", func(t *testing.T) { t.Error(\"too cold\") })\n" +
				"\tt.Run(\"cone 6\", func(t *testing.T) { t.Error(\"too hot\") })\n}\n\nfunc TestOther(t *testing.T) { t.Error(\"other\") }\n",
		}, `["go", "test", "./..."]`},
		"node": {map[string]string{
			"fire.test.mjs": "import test from 'node:test'\nimport assert from 'node:assert'\ntest('cone 06', () => { assert.equal(1, 2, 'too cold') })\ntest('cone 6', () => { assert.equal(1, 3, 'too hot') })\n",
		}, `["node", "--test"]`},
		"cargo": {map[string]string{
			"Cargo.toml": "[package]\nname = \"fire\"\nversion = \"0.1.0\"\nedition = \"2021\"\n",
			"src/lib.rs": "#[cfg(test)]\nmod tests {\n    #[test]\n    fn cone06() { assert!(false, \"too cold\"); }\n    #[test]\n    fn cone6() { assert!(false, \"too hot\"); }\n}\n",
		}, `["cargo", "test", "--offline"]`},
		"ctest": {map[string]string{
			"CMakeLists.txt": "cmake_minimum_required(VERSION 3.16)\nproject(fire NONE)\nenable_testing()\nadd_test(NAME cone06 COMMAND false)\nadd_test(NAME cone6 COMMAND false)\n",
		}, `"cmake -S . -B build > /dev/null && cd build && ctest"`},
		"rspec": {map[string]string{
			"spec/fire_spec.rb": "RSpec.describe 'fire' do\n  it('cone 06') { expect(1).to eq(2) }\n  it('is cone 6') { raise 'too hot' }\nend\n",
		}, `["rspec"]`},
		"ruby": {map[string]string{
			"test/fire_test.rb": "require 'minitest/autorun'\nclass FireTest < Minitest::Test\n  def test_cone_06 = assert_equal(1, 2)\n  def test_cone_6 = raise('too hot')\nend\n",
		}, `"for f in test/*.rb; do ruby $f; done"`},
		"phpunit": {map[string]string{
			"tests/FireTest.php": "<?php\nclass FireTest extends PHPUnit\\Framework\\TestCase {\n /** @dataProvider cones */\n public function testCone($a) { $this->assertSame(6, $a, 'too cold'); }\n public function cones() { return ['a/6' => [5], [7], [6]]; }\n}\n",
		}, `["phpunit", "tests"]`},
	} {
		t.Run(tool, func(t *testing.T) {
			testtree.Needs(t, tool)
			if err := exec.Command("ruby", "-e", "require 'minitest'").Run(); tool == "ruby" && err != nil {
				t.Skip("minitest is not installed")
			}
			s := with(t, "[task.all]\nrun = "+c.run+"\n", Options{})
			testtree.Fill(t, s.root, c.files)
			all := s.finish(s.start("all"))
			of := *all.Prepared.Task
			if tool == "ctest" {
				of.Setup.Path = "build/CMakeFiles/TargetDirectories.txt"
			}
			tried := 0
			for _, p := range all.Problems {
				if !strings.Contains(strings.ToLower(p.Test), "cone") {
					continue
				}
				tried++
				one, err := OneTest(&of, &p)
				if err != nil {
					t.Fatal(err)
				}
				job, err := s.super.Start(s.tasks, one, nil)
				if err != nil {
					t.Fatal(err)
				}
				snap := s.finish(job)
				if len(snap.Problems) != 1 || snap.Problems[0].Message != p.Message || snap.Problems[0].Test != p.Test || snap.State != Failed {
					t.Errorf("%s: %s\n%v, want %v", one.Command.String(), snap.Words(), snap.Problems, p)
				}
			}
			if tried != 2 {
				t.Errorf("%d of 2 tests named themselves: %+v", tried, all.Problems)
			}
		})
	}
}
