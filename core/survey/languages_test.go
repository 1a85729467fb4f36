package survey

import (
	"os/exec"
	"slices"
	"strings"
	"testing"

	"tidytally/core/task"
	"tidytally/internal/testtree"
)

// Packages and suites of further languages: what is listed, and that the real tool takes it.
func TestPackagesOfFurtherLanguages(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name, tool, source string
		files              map[string]string
		want               string
		works              []string // tasks that are run
	}{
		{"dune", "dune ocamlc", "dune", map[string]string{
			"dune-project": "(lang dune 2.0)\n", "lib/dune": "; (executable (name no))\n(library\n (name kiln))\n", "lib/kiln.ml": "let heat = 6\n",
			"bin/dune": "(executables\n (names main other)\n (libraries kiln))\n", "bin/main.ml": "let () = print_int Kiln.heat\n", "bin/other.ml": "",
			"test/dune": "(tests (names \"a\" b)\n (libraries kiln))\n(rule (alias runtest) (action (progn)))\n", "test/a.ml": "let () = assert (Kiln.heat = 6)\n", "test/b.ml": "",
			"vendored/dune-project": "(lang dune 2.0)\n",
		}, "build clean exec main exec other test test test", []string{"build", "exec main", "test test", "test"}},
		{"cabal", "cabal", "cabal", map[string]string{
			"kiln.cabal": "name: kiln\nversion: 1\n\nlibrary\n  exposed-modules: Kiln\n\nexecutable kiln-heat\n  main-is: Main.hs\n\nTest-Suite spec\n  type: exitcode-stdio-1.0\n  -- executable commented\n\nbenchmark speed\n  type: exitcode-stdio-1.0\n\ncommon shared\n",
		}, "bench speed build run kiln-heat test test spec", nil},
		{"bats", "bats", "bats", map[string]string{
			"test/a.bats": "@test \"heats\" {\n  true\n}\n", "test/b.bats": "@test \"cools\" {\n  true\n}\n", "one/only.bats": "@test \"one\" {\n  true\n}\n",
		}, "bats bats a.bats* bats b.bats* bats only", []string{"bats", "bats a.bats", "bats only"}},
		{"perl", "prove", "config", map[string]string{
			"Makefile.PL": "use ExtUtils::MakeMaker;\nWriteMakefile(NAME => 'Kiln', VERSION => 1);\n", "lib/Kiln.pm": "package Kiln;\n1;\n", "t/a.t": "use Test::More tests => 1;\nok 1;\n", "t/b.t": "use Test::More tests => 1;\nuse Kiln;\nok 1;\n",
		}, "perl Makefile.PL prove -lr prove -lr t/a.t* prove -lr t/b.t*", []string{"prove -lr", "prove -lr t/b.t", "perl Makefile.PL"}},
		{"mix", "mix", "config", map[string]string{
			"mix.exs":         "defmodule Kiln.MixProject do\n  use Mix.Project\n  def project, do: [app: :kiln, version: \"0.1.0\"]\nend\n",
			"lib/k.ex":        "defmodule Kiln do\n  def heat, do: 6\nend\n",
			"test/k_test.exs": "defmodule KilnTest do\n  use ExUnit.Case\n  test \"heats\", do: assert Kiln.heat() == 6\nend\n", "test/test_helper.exs": "ExUnit.start()\n",
		}, "mix compile mix format --check-formatted mix test mix test test/k_test.exs*", []string{"mix compile", "mix test", "mix test test/k_test.exs"}},
		{"rebar3", "rebar3", "config", map[string]string{"rebar.config": "{deps, []}.\n", "src/kiln.app.src": "{application, kiln, [{vsn, \"1\"}, {applications, [kernel, stdlib]}]}.\n", "src/kiln.erl": "-module(kiln).\n-export([heat/0]).\nheat() -> 6.\n"},
			"rebar3 compile rebar3 dialyzer rebar3 eunit", []string{"rebar3 compile", "rebar3 eunit"}},
		{"phpunit", "phpunit", "config", map[string]string{
			"phpunit.xml": "<phpunit><testsuites><testsuite name=\"all\"><directory>tests</directory></testsuite></testsuites></phpunit>\n", "tests/KilnTest.php": "<?php\nclass KilnTest extends PHPUnit\\Framework\\TestCase {\n  public function testHeat() { $this->assertTrue(true); }\n}\n",
		}, "phpunit phpunit tests/KilnTest.php*", []string{"phpunit", "phpunit tests/KilnTest.php"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			s := survey(t, c.files)
			if got := strings.Join(names(s, c.source), " "); got != c.want {
				t.Errorf("got  %s\nwant %s", got, c.want)
			}
			testtree.Needs(t, strings.Fields(c.tool)...)
			for _, name := range c.works {
				k := named(t, s, name)
				if c.name == "phpunit" && k.Command.Argv[0] == "vendor/bin/phpunit" {
					k.Command.Argv[0] = "phpunit"
				}
				cmd := exec.Command(k.Command.Argv[0], k.Command.Argv[1:]...)
				cmd.Dir = s.Root + "/" + k.Dir
				cmd.Env = append(cmd.Environ(), "MIX_ENV=test", "HOME="+s.Root)
				out, err := cmd.CombinedOutput()
				if err != nil && (c.name == "mix" || c.name == "rebar3") { // whose first start may want more than is here
					t.Skipf("%s in %s: %v\n%s", k.Command, k.Dir, err, out)
				} else if err != nil {
					t.Errorf("%s in %s: %v\n%s", k.Command, k.Dir, err, out)
				}
			}
			if suite := slices.IndexFunc(s.Tasks, func(k *task.Task) bool { return k.Parts > 0 }); suite >= 0 {
				parts := 0
				for _, k := range s.Tasks {
					if k.IsPartOf(s.Tasks[suite]) {
						parts++
					}
				}
				if parts != s.Tasks[suite].Parts {
					t.Errorf("%s says it has %d parts, and there are %d", s.Tasks[suite].Name, s.Tasks[suite].Parts, parts)
				}
			}
		})
	}
}

// A package script that calls one test runner and nothing else is a suite, of which each file runs by itself.
func TestScriptsThatAreSuites(t *testing.T) {
	t.Parallel()
	const test = "import test from 'node:test'\ntest('one', () => {})\n"
	s := survey(t, map[string]string{
		"package.json":   `{"type": "module", "scripts": {"test": "node --test --test-reporter=tap test/*.test.js", "unit": "NODE_ENV=test vitest run --coverage", "watch": "vitest", "jest": "jest --watch", "both": "node --test && echo", "pretest": "node --test"}}`,
		"test/a.test.js": test, "test/b.test.js": test, "src/c.spec.ts": "", "other.js": "",
	})
	want := []string{
		"both", "jest", "pretest", "test", "test test/a.test.js*: node --test --test-reporter=tap test/a.test.js", "test test/b.test.js*: node --test --test-reporter=tap test/b.test.js", "unit",
		"unit src/c.spec.ts*: npm run unit -- src/c.spec.ts", "unit test/a.test.js*: npm run unit -- test/a.test.js", "unit test/b.test.js*: npm run unit -- test/b.test.js", "watch",
	}
	var got []string
	for _, k := range s.Tasks {
		name := k.Name
		if k.Hidden {
			name += "*: " + k.Command.String()
		}
		got = append(got, name)
		if suite := named(t, s, "test"); k.Hidden && strings.HasPrefix(k.Name, "test ") && !k.IsPartOf(suite) {
			t.Errorf("%s is part of %s", k.Name, k.PartOf)
		}
	}
	slices.Sort(got)
	if !slices.Equal(got, want) {
		t.Errorf("got\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	k := named(t, s, "test test/a.test.js")
	if out := tool(t, s.Root, k.Command.Argv...); !strings.Contains(out, "# pass 1\n") {
		t.Errorf("one file alone: %s", out)
	}
}
