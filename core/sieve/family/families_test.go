package family

import (
	"strings"
	"testing"
	"time"

	"tidytally/internal/cputime"
)

// What the tools print, in their several forms, and what a person would take
// from it. The outputs were printed by the tools; paths were shortened.
var outputs = []struct{ family, name, output, want string }{
	{"rust", "short form", "src/lib.rs:4:5: error[E0449]: visibility qualifiers are not permitted here\nerror: aborting due to 1 previous error", "src/lib.rs:4:5: error: visibility qualifiers are not permitted here [E0449]\n"},
	{
		"rust", "note with a place", "error[E0382]: use of moved value: `k`\n  --> a.rs:14:20\n   |\n14 |     k.temp\n   |     ^\n   |\nnote: consider changing this parameter type\n  --> a.rs:7:12\n   |\n7  | fn heat(k: Kiln)\n   |    ----    ^^^^\n\nwarning: 1 warning emitted\n",
		"a.rs:14:20: error: use of moved value: `k` [E0382]\n  a.rs:7:12: consider changing this parameter type\n",
	},
	{"rust", "panic", "thread 'main' panicked at src/main.rs:5:10:\nindex out of bounds: the len is 0\nnote: run with `RUST_BACKTRACE=1` environment variable to display a backtrace\n", "src/main.rs:5:10: error: index out of bounds: the len is 0\n"},
	{"rust", "failed test", "---- tests::it stdout ----\n\nthread 'tests::it' panicked at src/lib.rs:9:9:\nassertion `left == right` failed\n  left: 1\n right: 2\n\nfailures:\n", "src/lib.rs:9:9: error: assertion `left == right` failed left: 1 right: 2\n"},
	{
		"rust", "cargo's own", "   Compiling x v0.1.0 (/w/x)\nwarning: unused import: `std::fmt`\n --> src/main.rs:1:5\n  |\n1 | use std::fmt;\n  |     ^^^^^^^^\n  |\n  = note: `#[warn(unused_imports)]` on by default\n\nwarning: `x` (bin \"x\") generated 1 warning\nerror: could not compile `x` (bin \"x\") due to 1 previous error\n",
		"src/main.rs:1:5: warning: unused import: `std::fmt` [unused_imports]\n",
	},
	{"python", "traceback", "Traceback (most recent call last):\n  File \"/w/run.py\", line 3, in <module>\n    main()\n  File \"/usr/lib/python3.11/json/decoder.py\", line 355, in raw_decode\n    raise JSONDecodeError(\"x\", s, err.value) from None\njson.decoder.JSONDecodeError: Expecting value: line 1 column 1 (char 0)\n", "/w/run.py:3: error: json.decoder.JSONDecodeError: Expecting value: line 1 column 1 (char 0)\n"},
	{"python", "chained", "Traceback (most recent call last):\n  File \"a.py\", line 2, in f\n    g()\nValueError: first\n\nDuring handling of the above exception, another exception occurred:\n\nTraceback (most recent call last):\n  File \"a.py\", line 9, in <module>\n    f()\nKeyError: 'second'\n", "a.py:9: error: KeyError: 'second'\n  a.py:2: ValueError: first\n"},
	{"python", "syntax", "  File \"/w/syn.py\", line 1\n    def f(:\n          ^\nSyntaxError: invalid syntax\n", "/w/syn.py:1: error: SyntaxError: invalid syntax\n"},
	{"pytest", "pytest", "    def test_add():\n>       assert add(1, 2) == 4\nE       assert 3 == 4\nE        +  where 3 = add(1, 2)\n\ntest_calc.py:5: AssertionError\n=== short test summary info ===\nFAILED test_calc.py::test_add - assert 3 == 4\n", "test_calc.py:5: error: AssertionError: assert 3 == 4 + where 3 = add(1, 2)\n"},
	{"python", "log of a traceback", "12:30:01 ERROR Traceback (most recent call last):\n  File \"a.py\", line 2, in f\n    g()\nOSError: gone\n", "a.py:2: error: OSError: gone\n"},
	{"pycheck", "ruff", "a.py:1:8: F401 [*] `os` imported but unused\nFound 1 error.\n", "a.py:1:8: warning: `os` imported but unused [F401]\n"},
	{"pycheck", "pylint", "a.py:3:0: C0103: Class name \"c\" doesn't conform to PascalCase naming style (invalid-name)\na.py:4:4: E0602: Undefined variable 'x' (undefined-variable)\n", "a.py:3:1: note: Class name \"c\" doesn't conform to PascalCase naming style [C0103]\na.py:4:5: error: Undefined variable 'x' [E0602]\n"},
	{"java", "details", "src/A.java:8: error: cannot find symbol\n        return cout;\n               ^\n  symbol:   variable cout\n  location: class A\n1 error\n", "src/A.java:8:16: error: cannot find symbol symbol: variable cout location: class A\n"},
	{"java", "maven", "[INFO] Compiling 2 source files\n[ERROR] /w/src/App.java:[10,5] cannot find symbol\n[ERROR]   symbol:   class Foo\n[INFO] 1 error\n[ERROR] Failed to execute goal org.apache.maven.plugins:maven-compiler-plugin:3.10.1:compile\n", "/w/src/App.java:10:5: error: cannot find symbol symbol: class Foo\n"},
	{"java", "kotlin under gradle", "e: file:///w/src/App.kt:3:5 Unresolved reference: x\nw: /w/src/Old.kt: (4, 9): Variable 'y' is never used\n", "/w/src/App.kt:3:5: error: Unresolved reference: x\n/w/src/Old.kt:4:9: warning: Variable 'y' is never used\n"},
	{"blocks", "two files", "\n/w/a.js\n  3:7   error    'x' is not defined  no-undef\n  10:1  warning  Unexpected 'debugger' statement  no-debugger\n\n/w/b.js\n  1:1  error  Parsing error: Unexpected token\n\n✖ 3 problems (2 errors, 1 warning)\n", "/w/a.js:3:7: error: 'x' is not defined [no-undef]\n/w/a.js:10:1: warning: Unexpected 'debugger' statement [no-debugger]\n/w/b.js:1:1: error: Parsing error: Unexpected token\n"},
	{"fortran", "two places", "a.f90:18:15:\n\n   14 |   subroutine p (i)\n      |              2\n......\n   18 |   subroutine p (i)\n      |               1\nError: Procedure 'p' at (1) is already defined at (2)\n", "a.f90:18:15: error: Procedure 'p' at (1) is already defined at (2)\n"},
	{"fortran", "warning", "b.f90:3:7:\n\n    3 |   x = 1.5\n      |       1\nWarning: Possible change of value in conversion at (1) [-Wconversion]\n", "b.f90:3:7: warning: Possible change of value in conversion at (1) [conversion]\n"},
	{"ghc", "message below", "Amb.hs:3:1: error: [GHC-87110]\n    Could not find module ‘No.Such’\n    Use -v to see a list\n  |\n3 | import No.Such\n  | ^^^^^^\n", "Amb.hs:3:1: error: Could not find module ‘No.Such’ Use -v to see a list [GHC-87110]\n"},
	{"ocaml", "range", "File \"b.ml\", line 7, characters 28-45:\n7 | let () = f x\n             ^^^^\nError: This expression has type int list\n       but an expression was expected of type unit\n", "b.ml:7:29: error: This expression has type int list but an expression was expected of type unit\n"},
	{"shellcheck", "arrows", "\nIn ./a.sh line 3:\necho $x | grep $y\n     ^-- SC2086 (info): Double quote to prevent globbing.\n               ^-- SC2154 (warning): y is referenced but not assigned.\n\n", "a.sh:3:6: note: Double quote to prevent globbing. [SC2086]\na.sh:3:16: warning: y is referenced but not assigned. [SC2154]\n"},
	{"cmake", "call stack", "CMake Warning (dev) at cmake/tools.cmake:7 (message):\n  Old syntax.\nCall Stack (most recent call first):\n  CMakeLists.txt:12 (add_tool)\nThis warning is for project developers.  Use -Wno-dev to suppress it.\n\n", "cmake/tools.cmake:7: warning: Old syntax.\n  CMakeLists.txt:12: called from add_tool\n"},
	{"xml", "parser", "d.xml:4: parser error : Opening and ending tag mismatch: a line 2 and b\n</b>\n    ^\n", "d.xml:4: error: Opening and ending tag mismatch: a line 2 and b\n"},
	{"node", "thrown", "/w/a.js:2\n  return x.y;\n  ^\n\nReferenceError: x is not defined\n    at f (/w/a.js:2:3)\n    at Object.<anonymous> (/w/a.js:4:1)\n    at Module._compile (node:internal/modules/cjs/loader:1521:14)\n\nNode.js v20.20.2\n", "/w/a.js:2:3: error: ReferenceError: x is not defined\n  /w/a.js:4:1: called from here\n"},
	{"script", "bash", "./run.sh: line 3: foo: command not found\n", "run.sh:3: error: foo: command not found\n"},
	{"script", "dash", "a.sh: 2: nosuchcmd: not found\n", "a.sh:2: error: nosuchcmd: not found\n"},
	{"script", "perl", "Use of uninitialized value $x in addition (+) at b.pl line 1.\nCan't call method \"foo\" on an undefined value at b.pl line 7.\n", "b.pl:1: warning: Use of uninitialized value $x in addition (+)\nb.pl:7: error: Can't call method \"foo\" on an undefined value\n"},
	{"ruby", "ruby", "/w/conf.rb:7:in `parse': bad conf: x (ArgumentError)\n\tfrom main.rb:3:in `<main>'\n", "/w/conf.rb:7: error: bad conf: x (ArgumentError)\n  main.rb:3: called from here\n"},
	{"script", "php", "PHP Fatal error:  Uncaught Exception: x y in /w/b.php:3\nStack trace:\n#0 {main}\n  thrown in /w/b.php on line 3\n", "/w/b.php:3: error: Uncaught Exception: x y\n"},
	{"script", "lua", "lua5.4: a.lua:2: attempt to index a nil value (local 'x')\nstack traceback:\n\ta.lua:2: in main chunk\n", "a.lua:2: error: attempt to index a nil value (local 'x')\n"},
	{"go", "module file", "go: errors parsing go.mod:\ngo.mod:3: unknown directive: xyz\n", "go.mod:3: error: unknown directive: xyz\n"},
	{"tsc", "without a place", "error TS18003: No inputs were found in config file 'tsconfig.json'.\n", "error: No inputs were found in config file 'tsconfig.json'. [TS18003]\n"},
	{"ld", "twice defined", "/usr/bin/ld: b.o: in function `f':\nb.c:(.text+0x0): multiple definition of `f'; a.o:a.c:(.text+0x0): first defined here\ncollect2: error: ld returned 1 exit status\n", "b.c: error: multiple definition of `f'\n  a.c: first defined here\n"},
	{"ld", "dangerous", "/usr/bin/ld: a.o: in function `main':\na.c:(.text+0x1c): warning: the `gets' function is dangerous and should not be used.\n", "a.c: warning: the `gets' function is dangerous and should not be used.\n"},
	{"gnu", "included from", "In file included from a.h:1,\n                 from b.c:2:\nc.h:7:3: error: unknown type name 'x'\n", "c.h:7:3: error: unknown type name 'x'\n  a.h:1: included from here\n  b.c:2: included from here\n"},
	{"ocaml", "interface", "File \"sig.ml\", line 1:\nError: The implementation sig.ml does not match the interface sig.cmi: \n       The value `cool' is required but not provided\n       File \"sig.mli\", line 2, characters 0-17: Expected declaration\n", "sig.ml:1: error: The implementation sig.ml does not match the interface sig.cmi: The value `cool' is required but not provided\n  sig.mli:2:1: Expected declaration\n"},
	{"ocaml", "exception", "Fatal error: exception Failure(\"hd\")\nRaised at Stdlib.failwith in file \"stdlib.ml\", line 29, characters 17-33\nCalled from Kiln.fire in file \"kiln.ml\", line 2, characters 16-22\nCalled from Kiln in file \"kiln.ml\", line 9, characters 1-3\n", "kiln.ml:2:17: error: exception Failure(\"hd\")\n  kiln.ml:9:2: called from Kiln\n"},
	{"nim", "exception", "/w/rt.nim(2)        rt\n/w/rt.nim(1)        inner\n/usr/lib/nim/lib/system/fatal.nim(54) sysFatal\nError: unhandled exception: index 5 not in 0 .. 0 [IndexDefect]\n", "/w/rt.nim:1: error: index 5 not in 0 .. 0 [IndexDefect]\n  /w/rt.nim:2: called from here\n"},
	{"zig", "error that left main", "error: Hot\n/w/c.zig:11:5: 0x21dda8 in inner (c)\n    return error.Hot;\n    ^\n/w/c.zig:8:5: 0x21ded0 in main (c)\n    try inner();\n    ^\n", "/w/c.zig:11:5: error: error.Hot\n  /w/c.zig:8:5: called from main\n"},
	{"gnu", "referenced by", "c.zig:3:13: error: type 'u8' does not support field access\n    return x.missing;\n           ~^~~~~~~~\nreferenced by:\n    main: c.zig:6:18\n    remaining reference traces hidden; use '-freference-trace' to see all reference traces\n", "c.zig:3:13: error: type 'u8' does not support field access\n  c.zig:6:18: referenced by main\n"},
	{"below", "sassc", "WARNING: old glaze\n         on line 1:7 of c.scss\n\nError: Mixin m is missing argument $x.\n        on line 3:15 of c.scss\n>> .a { @include m(); }\n\n   --------------^\n", "c.scss:1:7: warning: old glaze\nc.scss:3:15: error: Mixin m is missing argument $x.\n"},
	{"gnu", "wrapped where gcc keeps the blank", "t.cc:14:25:   required from here\nt.cc:4:41: error: request for member ‘length’ in ‘((const \n   holder<int>*)this)->holder<int>::value’, which is of non-class \n   type ‘const int’ [\n   -Wx]\n    4 |   value.length();\n      |         ^~~~~~\n", "t.cc:4:41: error: request for member ‘length’ in ‘((const holder<int>*)this)->holder<int>::value’, which is of non-class type ‘const int’ [x]\n  t.cc:14:25: required from here\n"},
	{"gnu", "a wrapped note with its reason", "a.cc:13:20: error: no matching function for call to ‘\n   push_back’\n   13 | x\n      | ^\nv.h:12:7: note:   conversion of \n   argument 1 would be ill-formed:\na.cc:13:21: error: invalid conversion\n", "a.cc:13:20: error: no matching function for call to ‘push_back’\n  v.h:12:7: conversion of argument 1 would be ill-formed:\n  a.cc:13:21: invalid conversion\n"},
	{"gnu", "source ranges", "plain.c:13:8:{13:12-13:13}{13:1-13:2}: warning: incompatible conversion [-Wint-conversion]\n", "plain.c:13:8: warning: incompatible conversion [int-conversion]\n"},
	{"rust", "tests without a panic", "---- tests::result stdout ----\nError: \"hot\"\n\n---- tests::should stdout ----\nnote: test did not panic as expected at glaze/src/lib.rs:17:8\n\nfailures:\n", "error: Error: \"hot\" [tests::result]\nglaze/src/lib.rs:17:8: error: test did not panic as expected [tests::should]\n"},
	{"gotest", "example", "--- FAIL: ExampleCoat (0.00s)\ngot:\na\nwant:\nb\nFAIL\nFAIL\texample.invalid/emberclay/glaze\t0.004s\nFAIL\n", "error: the example printed something else got: a want: b [ExampleCoat]\n"},
	{"python", "doctest", "**********************************************************************\nFile \"kiln.py\", line 7, in kiln.Kiln\nFailed example:\n    Kiln().temp()\nExpected:\n    3\nGot:\n    2\n**********************************************************************\n1 items had failures:\n   1 of   1 in kiln.Kiln\n***Test Failed*** 1 failures.\n", "kiln.py:7: error: Failed example: Kiln().temp() Expected: 3 Got: 2\n"},
	{"python", "group", "  + Exception Group Traceback (most recent call last):\n  |   File \"u2.py\", line 20, in <module>\n  |     asyncio.run(main())\n  |   File \"/usr/lib/python3.11/asyncio/taskgroups.py\", line 133, in __aexit__\n  |     raise me from None\n  | ExceptionGroup: unhandled errors in a TaskGroup (2 sub-exceptions)\n  +-+---------------- 1 ----------------\n    | Traceback (most recent call last):\n    |   File \"u2.py\", line 18, in boom\n    |     raise RuntimeError(\"boom\")\n    | RuntimeError: boom\n    +---------------- 2 ----------------\n    | Traceback (most recent call last):\n    |   File \"u2.py\", line 19, in bang\n    |     raise KeyError(\"k\")\n    | KeyError: 'k'\n    +------------------------------------\n", "u2.py:18: error: RuntimeError: boom\n  u2.py:20: ExceptionGroup: unhandled errors in a TaskGroup (2 sub-exceptions)\nu2.py:19: error: KeyError: 'k'\n  u2.py:20: ExceptionGroup: unhandled errors in a TaskGroup (2 sub-exceptions)\n"},
	{"python", "py_compile", "Sorry: TabError: inconsistent use of tabs and spaces in indentation (tab.py, line 3)\n", "tab.py:3: error: TabError: inconsistent use of tabs and spaces in indentation\n"},
	{"nodetest", "dots", "XX..\n\nFailed tests:\n\n✖ throws (0.3ms)\n  RangeError [Error]: too hot 9\n      at heat (file:///w/kiln.mjs:2:20)\n      at TestContext.<anonymous> (file:///w/kiln.test.mjs:5:24)\n      at Test.run (node:internal/test_runner/test:796:25)\n✖ timeout (13.9ms)\n  'test timed out after 10ms'\n", "/w/kiln.mjs:2:20: error: too hot 9 [throws]\nerror: test timed out after 10ms [timeout]\n"},
	{"rspec", "rspec", "FFF*\n\nPending: (Failures listed here are expected and do not affect your suite's status)\n\n  1) Kiln glaze skipped\n     # Temporarily skipped with xit\n     # ./spec/kiln_spec.rb:11\n\nFailures:\n\n  1) Kiln heats\n     Failure/Error: expect(Kiln.heat(2)).to eq(3)\n\n       expected: 3\n            got: 2\n\n       (compared using ==)\n     # ./spec/kiln_spec.rb:4:in `block (2 levels) in <top (required)>'\n\n  2) Kiln throws\n     Failure/Error: it('throws') { Kiln.heat(9) }\n\n     ArgumentError:\n       too hot\n     # ./kiln.rb:3:in `heat'\n     # ./spec/kiln_spec.rb:6:in `block (2 levels) in <top (required)>'\n\n  3) Kiln glaze coats\n     Failure/Error: expect([1, 2]).to include(5)\n       expected [1, 2] to include 5\n     # ./spec/kiln_spec.rb:9:in `block (3 levels) in <top (required)>'\n\nFinished in 0.03263 seconds (files took 0.18295 seconds to load)\n4 examples, 3 failures, 1 pending\n\nFailed examples:\n\nrspec ./spec/kiln_spec.rb:3 # Kiln heats\nrspec ./spec/kiln_spec.rb:6 # Kiln throws\nrspec ./spec/kiln_spec.rb:8 # Kiln glaze coats\n\n", "spec/kiln_spec.rb:4: error: expected: 3 got: 2 (compared using ==) [Kiln heats]\nkiln.rb:3: error: ArgumentError: too hot [Kiln throws]\n  spec/kiln_spec.rb:6: called from here\nspec/kiln_spec.rb:9: error: expected [1, 2] to include 5 [Kiln glaze coats]\n"},
	{"phpunit", "phpunit", "PHPUnit 9.6.7 by Sebastian Bergmann and contributors.\n\nFEE.                                                                4 / 4 (100%)\n\nTime: 00:00.008, Memory: 4.00 MB\n\nThere were 2 errors:\n\n1) KilnTest::testThrow\nRuntimeException: too hot\n\n/w/KilnTest.php:5\n\n2) KilnTest::testWarn\nUndefined array key \"x\"\n\n/w/KilnTest.php:6\n\n--\n\nThere was 1 failure:\n\n1) KilnTest::testHeat\nglaze\nFailed asserting that 2 is identical to 3.\n\n/w/KilnTest.php:4\n\nERRORS!\nTests: 4, Assertions: 2, Errors: 2, Failures: 1.\n", "/w/KilnTest.php:5: error: RuntimeException: too hot [KilnTest::testThrow]\n/w/KilnTest.php:6: error: Undefined array key \"x\" [KilnTest::testWarn]\n/w/KilnTest.php:4: error: glaze Failed asserting that 2 is identical to 3. [KilnTest::testHeat]\n"},
	{"specs", "jest with a mistake of types", " FAIL  test/coil.test.ts\n  ● Test suite failed to run\n\n    test/coil.test.ts:3:7 - error TS2322: Type 'string' is not assignable to type 'number'.\n\n    3 const x: number = 'a';\n            ~\n    test/coil.test.ts:5:1 - error TS2304: Cannot find name 'heat'.\n\n    5 heat();\n      ~~~~\n\nTest Suites: 1 failed, 1 total\n", "test/coil.test.ts:3:7: error: Type 'string' is not assignable to type 'number'. [TS2322]\ntest/coil.test.ts:5:1: error: Cannot find name 'heat'. [TS2304]\n"},
	{"specs", "jest with a mistake of syntax", " FAIL  test/coil.test.js\n  ● Test suite failed to run\n\n    Jest encountered an unexpected token\n\n    Jest failed to parse a file.\n\n    Details:\n\n    SyntaxError: /w/src/coil.js: Unexpected token (3:7)\n\n      1 | export\n    > 3 | const = 3;\n        |       ^\n\n      at parse (node_modules/@babel/parser/src/parse.js:1:2)\n\n", "/w/src/coil.js:3:8: error: Unexpected token [Test suite failed to run]\n"},
	{"specs", "jest, verbose, in a terminal", "\n RUNS  test/coil.test.ts\n FAIL  test/coil.test.ts (8.868 s)\n  kiln\n    ✓ fires (1 ms)\n    ✕ heats (3 ms)\n\n RUNS  test/more.test.ts\n  ● kiln › heats\n\n    expect(received).toBe(expected)\n\n    > 9 |   expect(heat()).toBe(3);\n\n      at Object.<anonymous> (test/coil.test.ts:9:18)\n\n", "test/coil.test.ts:9:18: error: expect(received).toBe(expected) [kiln › heats]\n"},
	{"specs", "vitest, watching", " FAIL  test/v.test.ts > kiln > heats\nAssertionError: expected 2 to be 3\n ❯ test/v.test.ts:4:20\n\n⎯⎯⎯⎯⎯⎯⎯⎯⎯⎯⎯⎯⎯⎯⎯⎯⎯⎯⎯⎯⎯⎯⎯⎯[1/1]⎯\n\n FAIL  Tests failed. Watching for file changes...\n       press h to show help, press q to quit\n", "test/v.test.ts:4:20: error: AssertionError: expected 2 to be 3 [kiln > heats]\n"},
	{"pytest", "one exception leads to another", "=================================== FAILURES ===================================\n___________________________________ test_fire ___________________________________\n\n    def fire():\n>       lookup('b')\n\nkiln.py:4: \n_ _ _ _ _ _ _ _ _ _ _ _ _ _ _ _ _ _ _ _ _ _ _ _ _ _ _ _ _ _ _ _ _ _ _ _ _ _ _ _\n\n>       return shelf[k]\nE       KeyError: 'b'\n\nkiln.py:9: KeyError\n\nThe above exception was the direct cause of the following exception:\n\n    def test_fire():\n>       fire()\n\ntest_kiln.py:4: \n_ _ _ _ _ _ _ _ _ _ _ _ _ _ _ _ _ _ _ _ _ _ _ _ _ _ _ _ _ _ _ _ _ _ _ _ _ _ _ _\n>       raise RuntimeError('cold') from e\nE       RuntimeError: cold\n\nkiln.py:6: RuntimeError\n=========================== short test summary info ============================\nFAILED test_kiln.py::test_fire - RuntimeError: cold\n============================== 1 failed in 0.01s ===============================\n", "kiln.py:6: error: RuntimeError: cold\n  kiln.py:9: KeyError: 'b'\n"},
	{"python", "pytest in Python's own form", "=================================== FAILURES ===================================\n___________________________________ test_fire ___________________________________\nTraceback (most recent call last):\n  File \"/w/test_kiln.py\", line 4, in test_fire\n    fire()\n  File \"/w/kiln.py\", line 9, in fire\n    return shelf[k]\nKeyError: 'b'\n=========================== short test summary info ============================\nFAILED test_kiln.py::test_fire - KeyError: 'b'\n============================== 1 failed in 0.01s ===============================\n", "/w/kiln.py:9: error: KeyError: 'b'\n"},
	{"tap", "a test inside of a test", "TAP version 13\n# Subtest: page\n    # Subtest: inner\n    not ok 1 - inner\n      ---\n      location: '/w/b.test.js:4:11'\n      failureType: 'testCodeFailure'\n      error: 'too hot'\n      stack: |-\n        heat (/w/kiln.js:9:3)\n        TestContext.<anonymous> (/w/b.test.js:5:12)\n        Test.run (node:internal/test_runner/test:796:25)\n      ...\n    1..1\nnot ok 1 - page\n  ---\n  location: '/w/b.test.js:3:1'\n  failureType: 'subtestsFailed'\n  error: '1 subtest failed'\n  ...\n1..1\n", "/w/kiln.js:9:3: error: too hot [inner]\n  /w/b.test.js:4:11: the test is declared here\n"},
	{"tap", "Test::More", "\n#   Failed test 'heat'\n#   at t/a.t line 3.\n#          got: '2'\n#     expected: '3'\n\n#   Failed test 'deep'\n#   at t/a.t line 4.\n#     Structures begin differing at:\n#          $got->{a} = '1'\n#     $expected->{a} = '2'\n# Looks like you failed 2 tests of 3.\nt/a.t .. \n1..3\nok 1 - fine\nnot ok 2 - heat\nnot ok 3 - deep\nDubious, test returned 2 (wstat 512, 0x200)\nFailed 2/3 subtests \n\nTest Summary Report\n-------------------\nt/a.t (Wstat: 512 (exited 2) Tests: 3 Failed: 2)\n  Failed tests:  2-3\n  Non-zero exit status: 2\nFiles=1, Tests=3,  0 wallclock secs ( 0.02 usr  0.01 sys +  0.07 cusr  0.02 csys =  0.12 CPU)\nResult: FAIL\n", "t/a.t:3: error: got: '2' expected: '3' [heat]\nt/a.t:4: error: Structures begin differing at: $got->{a} = '1' $expected->{a} = '2' [deep]\n"},
	{"beam", "erlc", "kiln2.erl:3:19: function foo/1 undefined\n%    3| heat(X) -> Y = 3, foo(X).\n%     |                   ^\n\nkiln2.erl:4:1: Warning: function cool/1 is unused\n%    4| cool(A) -> lists:nope(A).\n%     | ^\n\n", "kiln2.erl:3:19: error: function foo/1 undefined\nkiln2.erl:4:1: warning: function cool/1 is unused\n"},
	{"beam", "elixir", "warning: variable \"y\" is unused (if the variable is not meant to be used, prefix it with an underscore)\n  lib/a.ex:3: Kiln.heat/1\n\n\n== Compilation error in file lib/a.ex ==\n** (CompileError) lib/a.ex:4: undefined function nope/1\n", "lib/a.ex:3: warning: variable \"y\" is unused (if the variable is not meant to be used, prefix it with an underscore)\nlib/a.ex:4: error: undefined function nope/1 [CompileError]\n"},
	{"gnu", "a note behind what make says", "a.c:5:16: error: 'x' undeclared (first use in this function)\n    5 |         return x;\n      |                ^\nmake[1]: *** [Makefile:3: b.o] Error 1\na.c:5:16: note: each undeclared identifier is reported only once for each function it appears in\na.c:6:1: warning: control reaches end of non-void function [-Wreturn-type]\n", "a.c:5:16: error: 'x' undeclared (first use in this function)\n  a.c:5:16: each undeclared identifier is reported only once for each function it appears in\na.c:6:1: warning: control reaches end of non-void function [return-type]\n"},
	{"gnu", "scalac", "K.scala:3: error: type mismatch;\n found   : String(\"s\")\n required: Int\n  val y: Int = \"s\"\n               ^\none error found\n", "K.scala:3:16: error: type mismatch; found : String(\"s\") required: Int\n"},
	{"cmake", "ctest", "33% tests passed, 2 tests failed out of 3\n\nTotal Test time (real) =   1.01 sec\n\nThe following tests FAILED:\n\t  1 - heat (Failed)\n\t  3 - slow (Timeout)\nErrors while running CTest\n", "error: failed [heat]\nerror: timeout [slow]\n"},
	{"go", "what is indented later", "a.go:3:5: cannot use x as T value:\n\thave (string)\n\twant (int)\nok\n\tanother program's\n", "a.go:3:5: error: cannot use x as T value: have (string) want (int)\n"},
	{"gnu", "wrapped message", "a.C:5:7: warning: a message that the\ncompiler wrapped [-Wsomething-\nlong]\n    5 |   x\n      |   ^\n", "a.C:5:7: warning: a message that the compiler wrapped [-Wsomething- long]\n"},
	{"gnu", "clang with a note", "a.c:10:8: warning: unknown attribute [-Wunknown-attributes]\nATTR ((copy)) void\n       ^~~~\na.c:7:37: note: expanded from macro 'ATTR'\n#define ATTR(list)\n        ^\n1 warning generated.\n", "a.c:10:8: warning: unknown attribute [unknown-attributes]\n  a.c:7:37: expanded from macro 'ATTR'\n"},
	{"oneline", "protobuf", "src/kiln.proto:5:3: \"Temp\" is not defined.\n", "src/kiln.proto:5:3: error: \"Temp\" is not defined.\n"},
	{"nim", "compiler", "kiln.nim(3, 5) Error: undeclared identifier: 'ech'\n", "kiln.nim:3:5: error: undeclared identifier: 'ech'\n"},
	{"nim", "hint", "kiln.nim(9, 7) Hint: 'x' is declared but not used [XDeclaredButNotUsed]\n", "kiln.nim:9:7: note: 'x' is declared but not used [XDeclaredButNotUsed]\n"},
	{"oneline", "haskell's call stack", "kiln: Prelude.head: empty list\nCallStack (from HasCallStack):\n  error, called at libraries/base/GHC/List.hs:1646:3 in base:GHC.List\n  heat, called at app/Main.hs:7:9 in main:Main\n", "app/Main.hs:7:9: error: an error was raised in heat\n"},
	{"minitest", "minitest", "  1) Failure:\nKilnTest#test_heat [test/kiln_test.rb:12]:\nExpected: 1\n  Actual: 2\n\n", "test/kiln_test.rb:12: error: Expected: 1 Actual: 2 [KilnTest#test_heat]\n"},
	{"below", "terraform", "╷\n│ Error: Unsupported argument\n│ \n│   on kiln.tf line 4, in resource \"kiln\" \"one\":\n│    4:   foo = 1\n│ \n│ An argument named \"foo\" is not expected here.\n╵\n", "kiln.tf:4: error: Unsupported argument An argument named \"foo\" is not expected here.\n"},
	{"below", "sass", "Error: expected \"{\".\n  ╷\n4 │   color: red\n  │             ^\n  ╵\n  src/page.scss 4:13  root stylesheet\n", "src/page.scss:4:13: error: expected \"{\".\n"},
	{"below", "a step of a container's build", "Dockerfile:7\n--------------------\n   5 |     \n   6 |     COPY . .\n   7 | >>> RUN make\n   8 |     \n--------------------\nERROR: failed to solve: process \"/bin/sh -c make\" did not complete successfully: exit code: 2\n", "Dockerfile:7: error: process \"/bin/sh -c make\" did not complete successfully: exit code: 2\n"},
	{"blocks", "yamllint", "kiln.yaml\n  4:81      error    line too long (91 > 80 characters)  (line-length)\n", "kiln.yaml:4:81: error: line too long (91 > 80 characters) [line-length]\n"},
	{"make", "ninja, explained", "FAILED: kiln.o \ngcc -c kiln.c -o kiln.o\nkiln.c:3:1: error: x\nninja: build stopped: subcommand failed.\n", "kiln.c:3:1: error: x\n"},
	{"make", "ninja, with no word of why", "FAILED: gen.h \npython3 gen.py\nsomething odd\nninja: build stopped: subcommand failed.\n", "error: making gen.h failed\n"},
}

func TestFamilies(t *testing.T) {
	t.Parallel()
	for _, c := range outputs {
		problems := sift(t, []byte(c.output))
		if got := lines(problems); got != c.want {
			t.Errorf("%s, %s: got\n%swant\n%s", c.family, c.name, got, c.want)
			continue
		}
		if problems[0].Family != c.family && c.name != "short form" && c.name != "ninja, explained" {
			t.Errorf("%s, %s: taken by %s", c.family, c.name, problems[0].Family)
		}
		// Between other lines, and with the colours of a terminal, it is the same.
		around := "[ 50%] Building something\n" + c.output + "\n$ done\n"
		if got := lines(sift(t, []byte(around))); got != c.want {
			t.Errorf("%s, %s, among other lines: got\n%swant\n%s", c.family, c.name, got, c.want)
		}
		if got := lines(sift(t, []byte(strings.ReplaceAll(c.output, "\n", "\r\n")))); got != c.want {
			t.Errorf("%s, %s, from a terminal: got\n%swant\n%s", c.family, c.name, got, c.want)
		}
	}
}

// Twice the input takes about twice the time: no line of a family makes it
// superlinear.
func TestTimeGrowsWithTheInput(t *testing.T) {
	for _, piece := range []string{
		"a.c:1:2: error: x\n", "In file included from a.h:1,\n", "  File \"a.py\", line 1\n", "error: x\n", "E   x\n", "goroutine 1:\n", "panic: x\n", "a:1:", "(1", "    a_test.go:1: x\n",
		"make[1]: Entering directory '/a'\n", "In a line 1:\n", "CMake Error at a:1 (b):\n", "a.f90:1:2:\n", "/w/a.js:1\n", "a.hs:1:2: error:\n", "\x1b[31m", "x\r", "=== RUN   T\n    a.go:1: x\n", "/w/a.zig:1:2: 0x1 in f (a)\n", "thread 1 panic: x\n", "a.nim(1, 2) template/generic instantiation of `x` from here\n", "a.nim(1) x\n", "Fatal error: exception X\n",
		"  1:2  error  x\n", "Error: x\n", "=== FAILURES ===\nE   x\n", "a.py:1: in f\n", "  | x\n", "  + Exception Group Traceback (most recent call last):\n  |   File \"a.py\", line 1\n", "** (XError) a.ex:1: y\n", "Exception in thread \"main\" x\n\tat k.K.f(K.java:3)\n", "\tat k.K.f(K.java:3)\n", "  a.ex:1: y\n", "a.erl:1: y\n", "a.c:1:2: error: x\nplain\n\nplain\n", ": x", ":1", "[ ", "{\n",
		"web | a.c:1:2: error: x\n", "2026-11-26T08:44:01Z E   x\n", "#9 0.412 x\n", "\x1b[2K\x1b[1Gx", "\x1b[65000G\x1b[1Kx", "packages/a build$ x\n│ y\n└─ z\n\x1b[2A", "x\b", "\x1b[1A│ x\n", "[08:44:01] INFO web: x\n",
		"::error file=a,line=1::x\n", "not ok 1 - /a.js\n  ---\n  messages:\n    - message: x\n", " FAIL  a > b\nx\n", "job\tstep\t2026-11-26T08:44:01Z x\n",
	} {
		small, large := siftTime(t, piece, 2000), siftTime(t, piece, 16000)
		if large > 40*small+50*time.Millisecond {
			t.Errorf("%q: 8 times the input takes %d times as long", piece, large/max(1, small))
		}
	}
}

// siftTime is the best of three, in time of the processor: what other processes do
// does not count.
func siftTime(t *testing.T, piece string, times int) time.Duration {
	data := []byte(strings.Repeat(piece, times))
	best := time.Hour
	for range 3 {
		began := cputime.Used(t)
		sift(t, data)
		best = min(best, cputime.Used(t)-began)
	}
	return best
}
