import { autocompletion, type CompletionContext, completionKeymap } from "@codemirror/autocomplete";
import { defaultKeymap, history, historyKeymap, indentWithTab } from "@codemirror/commands";
import { yaml } from "@codemirror/lang-yaml";
import { HighlightStyle, syntaxHighlighting } from "@codemirror/language";
import { type Diagnostic, lintGutter, setDiagnostics } from "@codemirror/lint";
import { EditorState } from "@codemirror/state";
import { EditorView, keymap, lineNumbers } from "@codemirror/view";
import { tags } from "@lezer/highlight";
import { useEffect, useRef } from "react";
import type { Schemas } from "../../api/client";
import { wordsAt } from "./words";

const LOOK = EditorView.theme({
  "&": { height: "100%", fontSize: "13.5px", backgroundColor: "var(--raised)", color: "var(--ink)" },
  ".cm-scroller": { fontFamily: "ui-monospace, monospace", lineHeight: "1.55" },
  ".cm-gutters": { backgroundColor: "var(--raised)", color: "var(--quiet)", border: "none" },
  ".cm-content": { caretColor: "var(--ink)" },
  ".cm-cursor": { borderLeftColor: "var(--ink)" },
  ".cm-tooltip": { backgroundColor: "var(--raised)", color: "var(--ink)", border: "1px solid var(--line)" },
  ".cm-tooltip-autocomplete ul li[aria-selected]": {
    backgroundColor: "var(--heather-soft)",
    color: "var(--ink)",
  },
});

const COLOURS = HighlightStyle.define([
  { tag: [tags.propertyName, tags.definition(tags.propertyName)], color: "var(--heather)" },
  { tag: [tags.string, tags.special(tags.string)], color: "var(--moss)" },
  { tag: tags.comment, color: "var(--quiet)", fontStyle: "italic" },
]);

function complete(context: CompletionContext) {
  const word = context.matchBefore(/[\w-]*/);
  if (!word || (word.from === word.to && !context.explicit)) return null;
  const line = context.state.doc.lineAt(context.pos);
  const options = wordsAt(line.text.slice(0, context.pos - line.from)).map((label) => ({ label }));
  return options.length > 0 ? { from: word.from, options } : null;
}

/** The description as text, with completion, and its error in place. */
export function Description({
  text,
  error,
  onChange,
}: {
  text: string;
  error: Schemas["Fault"] | null;
  onChange: (text: string) => void;
}) {
  const place = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView | null>(null);
  const change = useRef(onChange);
  change.current = onChange;
  // biome-ignore lint/correctness/useExhaustiveDependencies: the editor is made once; later texts come below
  useEffect(() => {
    if (!place.current) return;
    view.current = new EditorView({
      parent: place.current,
      state: EditorState.create({
        doc: text,
        extensions: [
          lineNumbers(),
          lintGutter(),
          history(),
          yaml(),
          syntaxHighlighting(COLOURS),
          autocompletion({ override: [complete] }),
          keymap.of([...completionKeymap, ...defaultKeymap, ...historyKeymap, indentWithTab]),
          EditorView.contentAttributes.of({ "aria-label": "The description", tabindex: "0" }),
          EditorView.updateListener.of((update) => {
            if (update.docChanged) change.current(update.state.doc.toString());
          }),
          LOOK,
        ],
      }),
    });
    return () => view.current?.destroy();
  }, []);
  useEffect(() => {
    const editor = view.current;
    if (editor && editor.state.doc.toString() !== text)
      editor.dispatch({ changes: { from: 0, to: editor.state.doc.length, insert: text } });
  }, [text]);
  useEffect(() => {
    const editor = view.current;
    if (!editor) return;
    const found: Diagnostic[] = [];
    if (error?.line && error.line <= editor.state.doc.lines) {
      const line = editor.state.doc.line(error.line);
      const message = [error.message, error.expected && `Expected ${error.expected}.`]
        .filter(Boolean)
        .join(" ");
      found.push({ from: line.from, to: line.to, severity: "error", message });
    }
    editor.dispatch(setDiagnostics(editor.state, found));
  }, [error]);
  return <div ref={place} className="h-full overflow-hidden rounded-lg border border-line" />;
}
