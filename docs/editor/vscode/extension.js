// Speaks with "uparrot lsp" (Language Server Protocol) and hands the editor what it tells.
"use strict";
const vscode = require("vscode");
const { spawn } = require("child_process");

let server; // the program
let waiting = new Map(); // calls without an answer, by number
let number = 0;
let found; // what is wrong, by file
let registered = [];

function send(message) {
  const text = JSON.stringify({ jsonrpc: "2.0", ...message });
  if (server && server.stdin.writable) server.stdin.write(`Content-Length: ${Buffer.byteLength(text)}\r\n\r\n${text}`);
}
const notify = (method, params) => send({ method, params });
function call(method, params) {
  return new Promise((resolve, reject) => {
    waiting.set(++number, { resolve, reject });
    send({ id: number, method, params });
  });
}

function receive(message) {
  if (message.method === "textDocument/publishDiagnostics") {
    const list = message.params.diagnostics.map((d) => {
      const one = new vscode.Diagnostic(range(d.range), d.message, d.severity - 1);
      one.source = d.source;
      return one;
    });
    found.set(vscode.Uri.parse(message.params.uri), list);
    return;
  }
  const asked = waiting.get(message.id);
  if (!asked) return;
  waiting.delete(message.id);
  if (message.error) asked.reject(new Error(message.error.message));
  else asked.resolve(message.result);
}

function listen(stream) {
  let rest = Buffer.alloc(0);
  stream.on("data", (piece) => {
    rest = Buffer.concat([rest, piece]);
    for (;;) {
      const head = rest.indexOf("\r\n\r\n");
      if (head < 0) return;
      const length = Number(/Content-Length: (\d+)/i.exec(rest.subarray(0, head).toString())[1]);
      if (rest.length < head + 4 + length) return;
      const text = rest.subarray(head + 4, head + 4 + length).toString();
      rest = rest.subarray(head + 4 + length);
      receive(JSON.parse(text));
    }
  });
}

const range = (r) => new vscode.Range(r.start.line, r.start.character, r.end.line, r.end.character);
const place = (p) => ({ line: p.line, character: p.character });
const at = (document, position) => ({ textDocument: { uri: document.uri.toString() }, position: place(position) });
const ours = (document) => document.languageId === "parrot" || document.languageId === "toml";
const edits = (list) => (list || []).map((e) => new vscode.TextEdit(range(e.range), e.newText));

function workspaceEdit(edit) {
  const all = new vscode.WorkspaceEdit();
  for (const [uri, list] of Object.entries((edit && edit.changes) || {})) all.set(vscode.Uri.parse(uri), edits(list));
  return all;
}

function providers(context) {
  const languages = [{ language: "parrot" }, { language: "toml" }];
  const add = (one) => {
    registered.push(one);
    context.subscriptions.push(one);
  };
  const on = vscode.languages;
  add(on.registerCompletionItemProvider(languages, {
    async provideCompletionItems(document, position) {
      const answer = await call("textDocument/completion", at(document, position));
      return answer.items.map((it) => {
        const one = new vscode.CompletionItem({ label: it.label, description: it.detail }, it.kind - 1);
        one.insertText = it.textEdit.newText;
        one.range = range(it.textEdit.range);
        one.sortText = it.sortText;
        one.filterText = it.filterText;
        if (it.documentation) one.documentation = new vscode.MarkdownString(it.documentation);
        return one;
      });
    },
  }, " ", ":", "{", "=", '"', "["));
  add(on.registerHoverProvider(languages, {
    async provideHover(document, position) {
      const answer = await call("textDocument/hover", at(document, position));
      return answer && new vscode.Hover(new vscode.MarkdownString(answer.contents.value), range(answer.range));
    },
  }));
  add(on.registerDefinitionProvider(languages, {
    async provideDefinition(document, position) {
      const answer = await call("textDocument/definition", at(document, position));
      return answer && new vscode.Location(vscode.Uri.parse(answer.uri), range(answer.range));
    },
  }));
  add(on.registerReferenceProvider(languages, {
    async provideReferences(document, position) {
      const answer = await call("textDocument/references", at(document, position));
      return (answer || []).map((l) => new vscode.Location(vscode.Uri.parse(l.uri), range(l.range)));
    },
  }));
  add(on.registerRenameProvider(languages, {
    async prepareRename(document, position) {
      const answer = await call("textDocument/prepareRename", at(document, position));
      if (!answer) throw new Error("there is no name here that can be changed");
      return range(answer);
    },
    async provideRenameEdits(document, position, newName) {
      return workspaceEdit(await call("textDocument/rename", { ...at(document, position), newName }));
    },
  }));
  add(on.registerDocumentFormattingEditProvider([{ language: "parrot" }], {
    async provideDocumentFormattingEdits(document) {
      return edits(await call("textDocument/formatting", { textDocument: { uri: document.uri.toString() }, options: { tabSize: 4, insertSpaces: true } }));
    },
  }));
  add(on.registerCodeActionsProvider(languages, {
    async provideCodeActions(document, where) {
      const answer = await call("textDocument/codeAction", { textDocument: { uri: document.uri.toString() }, range: { start: place(where.start), end: place(where.end) }, context: { diagnostics: [] } });
      return answer.map((a) => {
        const one = new vscode.CodeAction(a.title, vscode.CodeActionKind.QuickFix);
        one.edit = workspaceEdit(a.edit);
        return one;
      });
    },
  }));
  add(on.registerDocumentSymbolProvider(languages, {
    async provideDocumentSymbols(document) {
      const answer = await call("textDocument/documentSymbol", { textDocument: { uri: document.uri.toString() } });
      return answer.map((s) => new vscode.DocumentSymbol(s.name, s.detail || "", s.kind - 1, range(s.range), range(s.selectionRange)));
    },
  }));
}

async function activate(context) {
  const program = vscode.workspace.getConfiguration("uparrot").get("program") || "uparrot";
  found = vscode.languages.createDiagnosticCollection("uparrot");
  context.subscriptions.push(found);
  server = spawn(program, ["lsp"]);
  server.on("error", (e) => vscode.window.showErrorMessage(`${program} cannot be started: ${e.message}. Name it in the setting uparrot.program.`));
  listen(server.stdout);
  await call("initialize", { processId: process.pid, rootUri: null, capabilities: {} });
  notify("initialized", {});
  const opened = (d) => ours(d) && notify("textDocument/didOpen", { textDocument: { uri: d.uri.toString(), languageId: d.languageId, version: d.version, text: d.getText() } });
  vscode.workspace.textDocuments.forEach(opened);
  context.subscriptions.push(
    vscode.workspace.onDidOpenTextDocument(opened),
    vscode.workspace.onDidChangeTextDocument(({ document: d }) => ours(d) && notify("textDocument/didChange", { textDocument: { uri: d.uri.toString(), version: d.version }, contentChanges: [{ text: d.getText() }] })),
    vscode.workspace.onDidSaveTextDocument((d) => ours(d) && notify("textDocument/didSave", { textDocument: { uri: d.uri.toString() } })),
    vscode.workspace.onDidCloseTextDocument((d) => ours(d) && notify("textDocument/didClose", { textDocument: { uri: d.uri.toString() } })),
  );
  providers(context);
}

async function deactivate() {
  if (!server) return;
  await call("shutdown", null);
  notify("exit", null);
}

module.exports = { activate, deactivate };
