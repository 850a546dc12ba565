/** The editor of Compose files: CodeMirror with YAML, errors at their lines, completion and help from the specification. */
import {
  autocompletion,
  completionKeymap,
  type CompletionContext,
  type CompletionResult,
} from "@codemirror/autocomplete";
import { defaultKeymap, history, historyKeymap, indentWithTab } from "@codemirror/commands";
import { yaml } from "@codemirror/lang-yaml";
import {
  bracketMatching,
  HighlightStyle,
  indentOnInput,
  indentUnit,
  syntaxHighlighting,
} from "@codemirror/language";
import { lintGutter, setDiagnostics, type Diagnostic } from "@codemirror/lint";
import { highlightSelectionMatches, search, searchKeymap } from "@codemirror/search";
import { EditorState } from "@codemirror/state";
import {
  drawSelection,
  EditorView,
  highlightActiveLine,
  hoverTooltip,
  keymap,
  lineNumbers,
  type Tooltip,
} from "@codemirror/view";
import { tags } from "@lezer/highlight";
import { attribute, below, help, keyLine, pathTo } from "./attributes";

/** An error, or something to know, of a line. */
export interface LineNote {
  line: number;
  column: number;
  sentence: string;
  severity: "error" | "info";
}

const colours = HighlightStyle.define([
  { tag: tags.propertyName, color: "var(--chart-2)" },
  { tag: [tags.string, tags.content], color: "var(--chart-0)" },
  { tag: [tags.comment, tags.lineComment], color: "var(--cds-text-02)", fontStyle: "italic" },
  { tag: [tags.keyword, tags.atom, tags.bool, tags.number], color: "var(--chart-1)" },
  { tag: [tags.meta, tags.labelName], color: "var(--chart-4)" },
]);

const looks = EditorView.theme({
  "&": {
    height: "100%",
    fontSize: "0.8125rem",
    backgroundColor: "var(--cds-field-01)",
    color: "var(--cds-text-01)",
  },
  ".cm-scroller": { fontFamily: '"IBM Plex Mono", ui-monospace, monospace', lineHeight: "1.45" },
  ".cm-content": { caretColor: "var(--cds-text-01)" },
  ".cm-gutters": { backgroundColor: "var(--cds-ui-01)", color: "var(--cds-text-02)", border: "0" },
  ".cm-activeLine, .cm-activeLineGutter": { backgroundColor: "var(--cds-hover-ui)" },
  "&.cm-focused .cm-selectionBackground, .cm-selectionBackground": {
    backgroundColor: "var(--cds-selected-ui) !important",
  },
  "&.cm-focused": { outline: "2px solid var(--cds-focus)", outlineOffset: "-2px" },
  ".cm-cursor": { borderLeftColor: "var(--cds-text-01)" },
  ".cm-tooltip": {
    backgroundColor: "var(--cds-ui-01)",
    color: "var(--cds-text-01)",
    border: "1px solid var(--line)",
    maxWidth: "30rem",
  },
  ".cm-tooltip-hover, .cm-completionInfo": { padding: "0.3rem 0.6rem", fontSize: "0.8125rem" },
  ".cm-tooltip-autocomplete ul li[aria-selected]": {
    backgroundColor: "var(--cds-interactive-01)",
    color: "var(--cds-text-04)",
  },
  ".cm-panels": { backgroundColor: "var(--cds-ui-01)", color: "var(--cds-text-01)" },
  ".cm-panels input, .cm-panels button": { color: "inherit" },
});

function linesBefore(state: EditorState, number: number): string[] {
  const first = Math.max(1, number - 2000);
  const lines = [];
  for (let n = first; n < number; n++) lines.push(state.doc.line(n).text);
  return lines;
}

function complete(context: CompletionContext): CompletionResult | null {
  const line = context.state.doc.lineAt(context.pos);
  const before = line.text.slice(0, context.pos - line.from);
  const typed = /^(\s*(?:-\s+)?)([\w-]*)$/.exec(before);
  if (!typed || (!typed[2] && !context.explicit)) return null;
  const head = typed[1] ?? "";
  const path = pathTo(linesBefore(context.state, line.number), head.length, head.includes("-"));
  const options = below(path).map((a) => ({
    label: a.path.split(".").at(-1) ?? a.path,
    type: "property",
    info: help(a),
    apply: `${a.path.split(".").at(-1) ?? ""}: `,
    boost: a.effect === "read" ? 1 : -1,
  }));
  return options.length > 0
    ? { from: context.pos - (typed[2] ?? "").length, options, validFor: /^[\w-]*$/ }
    : null;
}

function pointed(view: EditorView, pos: number): Tooltip | null {
  const line = view.state.doc.lineAt(pos);
  const key = keyLine(line.text);
  if (!key?.key) return null;
  const from = line.from + line.text.indexOf(key.key);
  if (pos < from || pos > from + key.key.length) return null;
  const known = attribute([...pathTo(linesBefore(view.state, line.number), key.indent, key.item), key.key]);
  if (!known) return null;
  return {
    pos: from,
    end: from + key.key.length,
    create: () => {
      const dom = document.createElement("div");
      dom.textContent = `${key.key}: ${help(known)}`;
      return { dom };
    },
  };
}

/** Makes an editor in a place of the page. */
export function editor(
  parent: HTMLElement,
  text: string,
  label: string,
  changed: ((text: string) => void) | null,
): EditorView {
  const readOnly = changed === null;
  return new EditorView({
    parent,
    state: EditorState.create({
      doc: text,
      extensions: [
        lineNumbers(),
        history(),
        drawSelection(),
        indentOnInput(),
        indentUnit.of("  "),
        bracketMatching(),
        highlightActiveLine(),
        highlightSelectionMatches(),
        search({ top: true }),
        yaml(),
        syntaxHighlighting(colours),
        looks,
        lintGutter(),
        hoverTooltip(pointed),
        autocompletion({ override: [complete] }),
        // Tab indents; Escape first lets it leave the editor, for those who work with the keyboard alone.
        keymap.of([
          ...completionKeymap,
          ...defaultKeymap,
          ...historyKeymap,
          ...searchKeymap,
          ...(readOnly ? [] : [indentWithTab]),
        ]),
        EditorView.contentAttributes.of({ "aria-label": label, spellcheck: "false", tabindex: "0" }),
        EditorState.readOnly.of(readOnly),
        EditorView.updateListener.of((update) => {
          if (update.docChanged) changed?.(update.state.doc.toString());
        }),
      ],
    }),
  });
}

/** Shows errors and notes at their lines. */
export function mark(view: EditorView, notes: LineNote[]) {
  const doc = view.state.doc;
  const all: Diagnostic[] = notes.map((note) => {
    const line = doc.line(Math.min(Math.max(1, note.line), doc.lines));
    const from = Math.min(line.from + Math.max(0, note.column - 1), line.to);
    const word = /^[\w.$-]+/.exec(doc.sliceString(from, line.to))?.[0].length ?? 0;
    return { from, to: word > 0 ? from + word : line.to, severity: note.severity, message: note.sentence };
  });
  view.dispatch(setDiagnostics(view.state, all));
}

/** Puts the cursor at a line. */
export function goTo(view: EditorView, line: number, column: number) {
  const at = view.state.doc.line(Math.min(Math.max(1, line), view.state.doc.lines));
  const pos = Math.min(at.from + Math.max(0, column - 1), at.to);
  view.dispatch({ selection: { anchor: pos }, effects: EditorView.scrollIntoView(pos, { y: "center" }) });
  view.focus();
}
