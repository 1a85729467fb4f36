package survey

import (
	"fmt"
	"strings"
	"testing"

	"tidytally/core/task"
)

// told writes the tasks of a source with what matters of them.
func told(s *Survey, source string) string {
	var b strings.Builder
	for _, t := range s.Tasks {
		if t.Source != source {
			continue
		}
		fmt.Fprintf(&b, "%s = %s", t.ID(), t.Command)
		if t.Hidden {
			b.WriteString(" hidden")
		}
		if _, ok := t.Origins["makes"]; ok {
			fmt.Fprintf(&b, " makes %v (%s)", t.Makes, t.Origin("makes"))
		}
		if t.Parts > 0 {
			fmt.Fprintf(&b, " parts %d (%s)", t.Parts, t.Origin("parts"))
		}
		b.WriteString("\n")
	}
	return b.String()
}

func TestTasksAreInferredFromToolsConfigurations(t *testing.T) {
	t.Parallel()
	s := survey(t, map[string]string{
		"shop/package.json":           `{"name": "shop", "scripts": {"lint": "npx eslint . --max-warnings 0"}, "jest": {}}`,
		"shop/package-lock.json":      "{}",
		"shop/eslint.config.mjs":      "export default []\n",
		"shop/vite.config.ts":         "import { defineConfig } from 'vite'\n// build: { outDir: 'no' }\nexport default defineConfig({\n  base: '/',\n  build: {\n    outDir: 'www/glazes',\n  },\n})\n",
		"shop/src/a.test.ts":          "",
		"shop/src/b.spec.js":          "",
		"shop/src/c.ts":               "",
		"shop/src/__tests__/d.ts":     "",
		"pages/astro.config.mjs":      "const out = process.env.OUT\nexport default { outDir: out }\n",
		"pages/rollup.config.js":      "export default { input: 'x' }\n",
		"book/pyproject.toml":         "[project]\nname = 'book'\n[tool.ruff]\nline-length = 100\n[tool.mypy]\n[tool.pytest.ini_options]\n",
		"book/.venv/pyvenv.cfg":       "",
		"book/.venv/bin/ruff":         "",
		"book/tests/test_glaze.py":    "",
		"book/tests/helper.py":        "",
		"book/setup.cfg":              "[metadata]\nname = book\n",
		"firmware/.clang-format":      "",
		"rb/.rspec":                   "--color\n",
		"rb/Gemfile":                  "",
		"rb/spec/kiln_spec.rb":        "",
		"e2e/playwright.config.ts":    "module.exports = { testMatch: ['journeys/*.ts', 'x/**/*.e2e.ts'] }\n",
		"e2e/journeys/order.ts":       "",
		"e2e/x/y/z.e2e.ts":            "",
		"e2e/x/y/z.ts":                "",
		"clash/package.json":          `{"packageManager": "pnpm@9.1.0", "prettier": {"semi": false}, "scripts": {"format": "prettier --write ."}}`,
		"style/stylelint.config.json": "{}",
	})
	want := `clash/package.json#prettier%20--check%20. = pnpm exec prettier --check .
clash/package.json#prettier%20--write%20. = pnpm exec prettier --write . hidden
e2e/playwright.config.ts#playwright%20test = playwright test parts 2 (e2e/playwright.config.ts:1, inferred: from testMatch)
e2e/playwright.config.ts#playwright%20test%20journeys/order.ts = playwright test journeys/order.ts hidden
e2e/playwright.config.ts#playwright%20test%20x/y/z.e2e.ts = playwright test x/y/z.e2e.ts hidden
pages/astro.config.mjs#astro%20dev = astro dev
pages/astro.config.mjs#astro%20build = astro build makes [] (pages/astro.config.mjs:2, inferred: outDir is no plain data)
pages/rollup.config.js#rollup%20-c = rollup -c makes [] (pages/rollup.config.js:1, inferred: output.dir does not stand here)
pages/rollup.config.js#rollup%20-c%20--watch = rollup -c --watch makes [] (pages/rollup.config.js:1, inferred: output.dir does not stand here)
rb/.rspec#rspec = bundle exec rspec parts 1 (rb/.rspec:1, inferred)
rb/.rspec#rspec%20spec/kiln_spec.rb = bundle exec rspec spec/kiln_spec.rb hidden
shop/eslint.config.mjs#eslint%20. = npx --no -- eslint . hidden
shop/eslint.config.mjs#eslint%20.%20--fix = npx --no -- eslint . --fix
shop/package.json#jest = npx --no -- jest parts 3 (shop/package.json:1, inferred)
shop/package.json#jest%20src/__tests__/d.ts = npx --no -- jest src/__tests__/d.ts hidden
shop/package.json#jest%20src/a.test.ts = npx --no -- jest src/a.test.ts hidden
shop/package.json#jest%20src/b.spec.js = npx --no -- jest src/b.spec.js hidden
shop/package.json#jest%20--watch = npx --no -- jest --watch
shop/vite.config.ts#vite%20dev = npx --no -- vite dev
shop/vite.config.ts#vite%20build = npx --no -- vite build makes [www/glazes] (shop/vite.config.ts:6, inferred: from build.outDir)
shop/vite.config.ts#vite%20preview = npx --no -- vite preview
style/stylelint.config.json#stylelint%20'**/*.%7Bcss,scss%7D' = stylelint '**/*.{css,scss}'
`
	got := told(s, "config")
	if got = strings.ReplaceAll(got, pyTaught, ""); got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
	if !strings.Contains(told(s, "config"), pyTaught) {
		t.Errorf("of pyproject.toml: %s", told(s, "config"))
	}
	if got := told(s, "python"); got != "book/pyproject.toml#test = python3 -m pytest parts 1 (book/pyproject.toml:6, inferred)\nbook/pyproject.toml#test%20tests/test_glaze.py = python3 -m pytest tests/test_glaze.py hidden\n" {
		t.Errorf("of pytest: %s", got)
	}
}

const pyTaught = `book/pyproject.toml#ruff%20check = .venv/bin/ruff check
book/pyproject.toml#ruff%20format = .venv/bin/ruff format
book/pyproject.toml#mypy%20. = mypy .
`

func TestTypeScriptProjects(t *testing.T) {
	t.Parallel()
	s := survey(t, map[string]string{
		"a/tsconfig.json":        "{\n  // glazes\n  \"extends\": \"../tsconfig.base\",\n  \"compilerOptions\": {\"strict\": true,},\n  \"include\": [\"src\", \"types\"]\n}",
		"tsconfig.base.json":     `{"compilerOptions": {"outDir": "out"}}`,
		"b/tsconfig.json":        `{"files": [], "references": [{"path": "../a"}]}`,
		"c/tsconfig.build.json":  `{"compilerOptions": {"noEmit": true}, "extends": ["./tsconfig.json"]}`,
		"c/tsconfig.json":        `{"compilerOptions": {"outDir": "${configDir}/x"}, "extends": "./tsconfig.build.json"}`,
		"d/tsconfig.broken.json": "{\"compilerOptions\": {\"outDir\": \"o\"}, \"include\": [",
	})
	want := `tsconfig.base.json#tsc%20check = tsc --noEmit -p tsconfig.base.json hidden
tsconfig.base.json#tsc%20watch = tsc --noEmit --watch -p tsconfig.base.json hidden
tsconfig.base.json#tsc%20compile = tsc -p tsconfig.base.json hidden makes [out] (tsconfig.base.json:1, inferred)
a/tsconfig.json#tsc%20check = tsc --noEmit -p tsconfig.json
a/tsconfig.json#tsc%20watch = tsc --noEmit --watch -p tsconfig.json
a/tsconfig.json#tsc%20compile = tsc -p tsconfig.json makes [../out] (tsconfig.base.json:1, inferred: extended by tsconfig.json)
b/tsconfig.json#tsc%20build = tsc -b tsconfig.json
b/tsconfig.json#tsc%20build%20watch = tsc -b tsconfig.json --watch
c/tsconfig.build.json#tsc%20check = tsc --noEmit -p tsconfig.build.json
c/tsconfig.build.json#tsc%20watch = tsc --noEmit --watch -p tsconfig.build.json
c/tsconfig.json#tsc%20check = tsc --noEmit -p tsconfig.json
c/tsconfig.json#tsc%20watch = tsc --noEmit --watch -p tsconfig.json
d/tsconfig.broken.json#tsc%20check = tsc --noEmit -p tsconfig.broken.json
d/tsconfig.broken.json#tsc%20watch = tsc --noEmit --watch -p tsconfig.broken.json
d/tsconfig.broken.json#tsc%20compile = tsc -p tsconfig.broken.json makes [o] (d/tsconfig.broken.json:1, inferred)
`
	if got := told(s, "config"); got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
	if len(s.Faults) != 1 || s.Faults[0].File != "d/tsconfig.broken.json" {
		t.Errorf("faults: %v", s.Faults)
	}
	check, err := task.Find(s.Tasks, "a/tsconfig.json#tsc check")
	if err != nil || check.Origin("reads").Line != 5 || strings.Join(check.Reads, " ") != "src types" {
		t.Errorf("reads: %v %v", check, err)
	}
}

func TestCallsOfAScript(t *testing.T) {
	t.Parallel()
	s := survey(t, map[string]string{
		"package.json":             `{"name": "root", "workspaces": ["parts/*"], "scripts": {"all": "npm run build -w @kiln/shop && npm -w parts/api test", "every": "npm run build --workspaces"}}`,
		"parts/shop/package.json":  `{"name": "@kiln/shop", "scripts": {"prebuild": "make -C ../.. tables", "build": "tsc && npm run bundle:js; cp a b | tee \"$LOG\"", "postbuild": "npm run bundle:css", "bundle:js": "x", "bundle:css": "y", "bundle:css:min": "z", "dev": "together npm:watch 'npm run serve'", "some": "several --quick bundle:*", "deep": "several 'bundle:**'", "watch": "tsc -w", "serve": "node s", "no": "eslint src", "broken": "echo 'a"}}`,
		"parts/api/package.json":   `{"name": "api", "scripts": {"test": "yarn workspace @kiln/shop build", "build": "if [ -f x ]; then pnpm --filter api run test; fi"}}`,
		"Makefile":                 "first: tables\ntables:\n\techo t\nother:\n\techo\n",
		"sub/composer.json":        `{"scripts": {"check": ["@lint", "phpunit"], "lint": "php -l x"}}`,
		"tidytally.toml":           "[task.night]\nrun = 'CI=1 make && npm run every'\n",
		"parts/other/package.json": `{"scripts": {"alone": "just-one"}}`,
	})
	for id, want := range map[string]string{
		"package.json#all":               "npm run build -w @kiln/shop → parts/shop/package.json#build; npm -w parts/api test → parts/api/package.json#test",
		"package.json#every":             "npm run build --workspaces → parts/api/package.json#build; npm run build --workspaces → parts/shop/package.json#build",
		"parts/shop/package.json#build":  "before make -C ../.. tables → parts/shop/package.json#prebuild; tsc; npm run bundle:js → parts/shop/package.json#bundle:js; cp a b; tee \"$LOG\"; after npm run bundle:css → parts/shop/package.json#postbuild",
		"parts/shop/package.json#dev":    "together npm:watch 'npm run serve' → parts/shop/package.json#watch; together npm:watch 'npm run serve' → parts/shop/package.json#serve",
		"parts/shop/package.json#some":   "several --quick bundle:* → parts/shop/package.json#bundle:js; several --quick bundle:* → parts/shop/package.json#bundle:css",
		"parts/shop/package.json#deep":   "several 'bundle:**' → parts/shop/package.json#bundle:js; several 'bundle:**' → parts/shop/package.json#bundle:css; several 'bundle:**' → parts/shop/package.json#bundle:css:min",
		"parts/shop/package.json#no":     "",
		"parts/shop/package.json#broken": "",
		"parts/api/package.json#build":   "[ -f x ]; pnpm --filter api run test → parts/api/package.json#test",
		"parts/api/package.json#test":    "yarn workspace @kiln/shop build → parts/shop/package.json#build",
		"tidytally.toml#night":           "CI=1 make → Makefile#first; npm run every → package.json#every",
		"parts/other/package.json#alone": "",
	} {
		k, err := task.Find(s.Tasks, id)
		if err != nil {
			t.Error(err)
			continue
		}
		var got []string
		for _, c := range s.Calls(k) {
			text := c.Text
			if c.Hook != "" {
				text = c.Hook + " " + text
			}
			if c.ID != "" {
				text += " → " + c.ID
			}
			got = append(got, text)
		}
		if strings.Join(got, "; ") != want {
			t.Errorf("%s:\n got %s\nwant %s", id, strings.Join(got, "; "), want)
		}
	}
}

// The hooks stand where npm runs them.
func TestHooksAgainstNpm(t *testing.T) {
	t.Parallel()
	s := survey(t, map[string]string{"package.json": `{"name": "x", "scripts": {"prefire": "echo one", "fire": "echo two && echo three", "postfire": "echo four"}}`})
	fire, err := task.Find(s.Tasks, "fire")
	if err != nil {
		t.Fatal(err)
	}
	var calls []string
	for _, c := range s.Calls(fire) {
		calls = append(calls, strings.TrimPrefix(c.Text, "echo "))
	}
	if got, want := strings.Join(calls, "\n"), strings.TrimSpace(tool(t, s.Root, "npm", "run", "--silent", "fire")); got != want {
		t.Errorf("got %s, npm runs %s", got, want)
	}
}
