const ts = require("typescript");
const cfg = ts.getParsedCommandLineOfConfigFile("tsconfig.json", {}, { ...ts.sys, onUnRecoverableConfigFileDiagnostic() {} });
const program = ts.createProgram(cfg.fileNames, cfg.options);
const place = (d) => {
  if (!d.file) return {};
  const s = d.file.getLineAndCharacterOfPosition(d.start), e = d.file.getLineAndCharacterOfPosition(d.start + d.length);
  return { file: require("path").relative(".", d.file.fileName), line: s.line + 1, column: s.character + 1, endLine: e.line + 1, endColumn: e.character + 1 };
};
const text = (m) => ts.flattenDiagnosticMessageText(m, "\n");
const syntactic = program.getSyntacticDiagnostics(); // the compiler prints the others only when there are none of these
const all = ts.sortAndDeduplicateDiagnostics(syntactic.length ? syntactic : ts.getPreEmitDiagnostics(program)).map((d) => ({
  ...place(d), code: "TS" + d.code, severity: ["warning", "error", "note", "note"][d.category], message: text(d.messageText),
  related: (d.relatedInformation || []).map((r) => ({ ...place(r), message: text(r.messageText) })),
}));
console.log(JSON.stringify(all, null, 1));
