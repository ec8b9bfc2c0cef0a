import { autocompletion, completionKeymap, type CompletionSource } from "@codemirror/autocomplete";
import { defaultKeymap, history, historyKeymap } from "@codemirror/commands";
import { yaml } from "@codemirror/lang-yaml";
import { bracketMatching, HighlightStyle, indentUnit, syntaxHighlighting } from "@codemirror/language";
import { lintGutter, setDiagnostics } from "@codemirror/lint";
import { EditorState } from "@codemirror/state";
import { drawSelection, EditorView, keymap, lineNumbers } from "@codemirror/view";
import { tags } from "@lezer/highlight";
import { useEffect, useRef } from "react";

/** Wrong is something that is wrong in a line; lines are counted from 1. */
type Wrong = { line: number; message: string };

const colours = HighlightStyle.define([
  { tag: [tags.propertyName, tags.definition(tags.propertyName)], color: "var(--deep)", fontWeight: "500" },
  { tag: [tags.string, tags.content], color: "var(--ink)" },
  { tag: [tags.comment, tags.meta], color: "var(--soft)" },
  { tag: [tags.separator, tags.punctuation], color: "var(--soft)" },
]);

const look = EditorView.theme({
  "&": { backgroundColor: "var(--paper)", color: "var(--ink)", fontSize: "0.8125rem" },
  "&.cm-focused": { outline: "2px solid var(--deep)", outlineOffset: "1px" },
  ".cm-content": { fontFamily: "ui-monospace, monospace", caretColor: "var(--ink)", minHeight: "24rem" },
  ".cm-cursor": { borderLeftColor: "var(--ink)" },
  ".cm-gutters": { backgroundColor: "var(--paper)", color: "var(--soft)", border: "none" },
  "&.cm-focused .cm-selectionBackground, .cm-selectionBackground": { backgroundColor: "var(--wash)" },
  ".cm-tooltip": { backgroundColor: "var(--sheet)", border: "1px solid var(--rule)", color: "var(--ink)" },
  ".cm-tooltip-autocomplete ul li[aria-selected]": { backgroundColor: "var(--wash)", color: "var(--ink)" },
  ".cm-completionDetail": { color: "var(--soft)", fontStyle: "normal" },
  ".cm-diagnostic-error": { borderLeftColor: "var(--bad)" },
});

/** Editor is a field for YAML, with what is wrong at its lines, and proposals for what can stand there. */
export default function Editor({
  label,
  value,
  onChange,
  readOnly,
  wrong,
  complete,
}: {
  label: string;
  value: string;
  onChange: (value: string) => void;
  readOnly?: boolean;
  wrong?: Wrong;
  complete: CompletionSource;
}) {
  const frame = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView>(null);
  const changed = useRef(onChange);
  changed.current = onChange;
  useEffect(() => {
    const made = new EditorView({
      parent: frame.current!,
      doc: value,
      extensions: [
        lineNumbers(),
        lintGutter(),
        history(),
        drawSelection(),
        bracketMatching(),
        indentUnit.of("  "),
        yaml(),
        syntaxHighlighting(colours),
        autocompletion({ override: [complete], icons: false, selectOnOpen: false }),
        keymap.of([...completionKeymap, ...historyKeymap, ...defaultKeymap]),
        EditorView.lineWrapping,
        EditorView.contentAttributes.of({ "aria-label": label }),
        EditorState.readOnly.of(readOnly ?? false),
        EditorView.updateListener.of((u) => u.docChanged && changed.current(u.state.doc.toString())),
        look,
      ],
    });
    view.current = made;
    return () => made.destroy();
  }, [label, readOnly, complete]); // what is typed lives in the editor
  useEffect(() => {
    const v = view.current!;
    if (v.state.doc.toString() !== value) v.dispatch({ changes: { from: 0, to: v.state.doc.length, insert: value } });
  }, [value]);
  useEffect(() => {
    const v = view.current!;
    const at = wrong && v.state.doc.line(Math.min(Math.max(wrong.line, 1), v.state.doc.lines));
    v.dispatch(
      setDiagnostics(v.state, at ? [{ from: at.from, to: at.to, severity: "error", message: wrong.message }] : []),
    );
  }, [wrong?.line, wrong?.message]);
  return <div ref={frame} className="overflow-hidden rounded border border-rule" />;
}
