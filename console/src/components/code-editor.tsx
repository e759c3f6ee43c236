import {
  autocompletion,
  closeBrackets,
  closeBracketsKeymap,
  completionKeymap,
} from "@codemirror/autocomplete";
import { defaultKeymap, history, historyKeymap, indentWithTab } from "@codemirror/commands";
import { json } from "@codemirror/lang-json";
import { yaml } from "@codemirror/lang-yaml";
import {
  bracketMatching,
  foldGutter,
  foldKeymap,
  HighlightStyle,
  indentOnInput,
  syntaxHighlighting,
} from "@codemirror/language";
import { lintGutter, lintKeymap, setDiagnostics, type Diagnostic } from "@codemirror/lint";
import { highlightSelectionMatches, searchKeymap } from "@codemirror/search";
import { Compartment, EditorState } from "@codemirror/state";
import { drawSelection, EditorView, highlightActiveLine, keymap, lineNumbers } from "@codemirror/view";
import { tags } from "@lezer/highlight";
import { useEffect, useRef } from "react";
import { completer, type Schema } from "../lib/model-complete";

export interface Mistake {
  line: number;
  column: number;
  severity: string;
  sentence: string;
}

const look = EditorView.theme({
  "&": { height: "100%", backgroundColor: "var(--surface)", color: "var(--ink)", fontSize: "0.8125rem" },
  ".cm-scroller": { fontFamily: "var(--font-mono)", lineHeight: "1.5" },
  ".cm-gutters": { backgroundColor: "var(--surface)", color: "var(--muted)", border: "none" },
  ".cm-content": { caretColor: "var(--ink)" },
  "&.cm-focused": { outline: "2px solid var(--press)", outlineOffset: "-2px" },
  ".cm-cursor": { borderLeftColor: "var(--ink)" },
  ".cm-activeLine, .cm-activeLineGutter": { backgroundColor: "var(--band)" },
  ".cm-selectionBackground, &.cm-focused .cm-selectionBackground": {
    backgroundColor: "var(--liquid) !important",
  },
  ".cm-tooltip": { backgroundColor: "var(--surface)", color: "var(--ink)", border: "1px solid var(--line)" },
  ".cm-tooltip-autocomplete ul li[aria-selected]": { backgroundColor: "var(--ground)", color: "var(--ink)" },
  ".cm-completionInfo": { maxWidth: "22rem" },
  ".cm-panels": { backgroundColor: "var(--ground)", color: "var(--ink)" },
});
const colours = syntaxHighlighting(
  HighlightStyle.define([
    { tag: [tags.propertyName, tags.definition(tags.propertyName)], color: "var(--ink)", fontWeight: "600" },
    { tag: [tags.string, tags.content], color: "var(--press)" },
    { tag: [tags.number, tags.bool, tags.null], color: "var(--low)" },
    {
      tag: [tags.punctuation, tags.separator, tags.brace, tags.squareBracket, tags.comment],
      color: "var(--muted)",
    },
  ]),
);

// CodeEditor edits a file in JSON or YAML, with completion by its schema and
// mistakes marked in their places.
export default function CodeEditor({
  given,
  format,
  schema,
  mistakes,
  label,
  onChange,
  jump,
}: {
  given: { text: string };
  format: "json" | "yaml";
  schema?: Schema;
  mistakes: Mistake[];
  label: string;
  onChange: (v: string) => void;
  jump?: { line: number; column: number; n: number };
}) {
  const host = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView>(null);
  const language = useRef(new Compartment());
  const change = useRef(onChange);
  useEffect(() => {
    change.current = onChange;
  }, [onChange]);
  useEffect(() => {
    const v = new EditorView({
      parent: host.current!,
      state: EditorState.create({
        doc: given.text,
        extensions: [
          EditorView.cspNonce.of(
            document.querySelector<HTMLMetaElement>('meta[property="csp-nonce"]')?.nonce ?? "",
          ),
          lineNumbers(),
          foldGutter(),
          history(),
          drawSelection(),
          indentOnInput(),
          bracketMatching(),
          closeBrackets(),
          highlightActiveLine(),
          highlightSelectionMatches(),
          lintGutter(),
          EditorView.lineWrapping,
          EditorState.tabSize.of(2),
          EditorView.contentAttributes.of({ "aria-label": label, tabindex: "0" }),
          language.current.of([]),
          look,
          colours,
          keymap.of([
            ...closeBracketsKeymap,
            ...completionKeymap,
            ...searchKeymap,
            ...historyKeymap,
            ...foldKeymap,
            ...lintKeymap,
            ...defaultKeymap,
            indentWithTab,
          ]),
          EditorView.updateListener.of((u) => {
            if (u.docChanged) change.current(u.state.doc.toString());
          }),
        ],
      }),
    });
    view.current = v;
    return () => v.destroy();
    // A text that comes later is taken over below.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [label]);
  useEffect(() => {
    // What is typed lives in the editor; a text replaces it only when it comes
    // from elsewhere, or a slow page would take keystrokes back.
    const v = view.current;
    if (v && v.state.doc.toString() !== given.text)
      v.dispatch({ changes: { from: 0, to: v.state.doc.length, insert: given.text } });
  }, [given]);
  useEffect(() => {
    view.current?.dispatch({
      effects: language.current.reconfigure([
        format === "json" ? json() : yaml(),
        autocompletion({ override: schema ? [completer(schema, format === "json")] : [], icons: false }),
      ]),
    });
  }, [format, schema]);
  useEffect(() => {
    const v = view.current;
    if (!v) return;
    const marks = mistakes.map((m): Diagnostic => {
      const line = v.state.doc.line(Math.min(Math.max(m.line, 1), v.state.doc.lines));
      const from = Math.min(line.from + Math.max(m.column - 1, 0), line.to);
      const word = /^("[^"]*"|[^\s,\]}]+)/.exec(v.state.sliceDoc(from, line.to));
      return {
        from,
        to: from + (word?.[0].length ?? 0) || from,
        severity: m.severity === "error" ? "error" : "warning",
        message: m.sentence,
      };
    });
    v.dispatch(setDiagnostics(v.state, marks));
  }, [mistakes]);
  useEffect(() => {
    const v = view.current;
    if (!v || !jump) return;
    const line = v.state.doc.line(Math.min(Math.max(jump.line, 1), v.state.doc.lines));
    const pos = Math.min(line.from + Math.max(jump.column - 1, 0), line.to);
    v.dispatch({ selection: { anchor: pos }, effects: EditorView.scrollIntoView(pos, { y: "center" }) });
    v.focus();
  }, [jump]);
  return <div ref={host} className="h-full overflow-hidden border border-line" />;
}
