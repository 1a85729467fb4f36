package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// clientOfAnEditor opens a file in an editor, waits for so many diagnostics, and writes them down; then it runs
// the task that mends all and waits for them to go.
const clientOfAnEditor = `
local f = io.open(vim.env.OUT, 'w')
vim.cmd('edit ' .. vim.env.WS .. '/kiln/src/coil.c')
vim.wait(20000, function() return #vim.lsp.get_active_clients() == 1 end, 20)
local id = vim.lsp.get_active_clients()[1].id
vim.wait(20000, function() return #vim.diagnostic.get(0) == 3 end, 50)
for _, d in ipairs(vim.diagnostic.get(0)) do
  f:write(string.format('%d:%d %d %s\n', d.lnum + 1, d.col + 1, d.severity, d.message))
end
local text = table.concat(vim.api.nvim_buf_get_lines(0, 0, -1, false), '\n')
vim.api.nvim_buf_set_lines(0, 0, 0, false, { '/* above */' })
vim.wait(20000, function() local d = vim.diagnostic.get(0); return #d == 3 and d[1].lnum == 23 end, 50)
f:write('moved to ' .. (vim.diagnostic.get(0)[1].lnum + 1) .. '\n')
vim.cmd('undo')
text = text:gsub('duty_max', 'duty_min')
text = text:gsub('unsigned elapsed = [^\n]*\n', '')
vim.api.nvim_buf_set_lines(0, 0, -1, false, vim.split(text, '\n'))
vim.cmd('write')
vim.lsp.buf_request(0, 'workspace/executeCommand', { command = 'tidytally.run', arguments = { vim.env.WS, 'kiln/Makefile#controller' } }, function() end)
vim.wait(20000, function() return #vim.diagnostic.get(0) < 3 end, 50)
for _, d in ipairs(vim.diagnostic.get(0)) do
  if d.message:find('duty_max') then f:write('still there\n') end
end
f:write('left ' .. #vim.diagnostic.get(0) .. '\n')
f:close()
vim.lsp.stop_client(id)
vim.wait(5000, function() return vim.lsp.client_is_stopped(id) end, 20)
vim.cmd('qa!')
`

// An editor of others shows what the compiler said, entry by entry; the places move with the text, and what
// is mended goes with the next run.
func TestAnEditorShowsTheProblems(t *testing.T) {
	t.Parallel()
	editor, err := exec.LookPath("nvim")
	if err != nil {
		t.Skip(err)
	}
	dir := workspace(t)
	if _, _, code := call(t, dir, "", "run", "kiln/Makefile#controller"); code != 2 {
		t.Fatalf("exit %d", code)
	}
	guide, err := os.ReadFile("../docs/editors.md") // what it tells users to write
	if err != nil {
		t.Fatal(err)
	}
	_, text, found := strings.Cut(string(guide), "```lua\n")
	text, _, ended := strings.Cut(text, "```\n")
	if !found || !ended {
		t.Fatal("the guide has no text for the editor")
	}
	script, out := filepath.Join(t.TempDir(), "client.lua"), filepath.Join(t.TempDir(), "out")
	if err := os.WriteFile(script, []byte(text+clientOfAnEditor), 0o644); err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command(editor, "--headless", "-u", "NONE", "-i", "NONE", "-n", "-c", "luafile "+script)
	cmd.Env = append(os.Environ(), "OUT="+out, "WS="+dir, "PATH="+filepath.Dir(program)+":"+os.Getenv("PATH"))
	if said, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, said)
	}
	got, err := os.ReadFile(out)
	if err != nil {
		t.Fatal(err)
	}
	want := `23:20 2 comparison of integer expressions of different signedness: ‘int’ and ‘unsigned int’
30:6 2 unused variable ‘elapsed’
39:19 1 ‘struct coil’ has no member named ‘duty_max’; did you mean ‘duty_min’?
moved to 24
`
	if !strings.HasPrefix(string(got), want) || strings.Contains(string(got), "still there") {
		t.Errorf("it shows\n%swant\n%s", got, want)
	}
}
