<script setup lang="ts">
import {
  autocompletion,
  type CompletionContext,
  type CompletionResult,
  completionKeymap,
  snippetCompletion,
} from '@codemirror/autocomplete'
import { defaultKeymap, history, historyKeymap, indentWithTab } from '@codemirror/commands'
import { yaml } from '@codemirror/lang-yaml'
import { HighlightStyle, syntaxHighlighting } from '@codemirror/language'
import { type Diagnostic, lintGutter, setDiagnostics } from '@codemirror/lint'
import { highlightSelectionMatches, searchKeymap } from '@codemirror/search'
import { EditorState } from '@codemirror/state'
import { EditorView, highlightActiveLine, keymap, lineNumbers } from '@codemirror/view'
import { tags } from '@lezer/highlight'
import { onMounted, onUnmounted, ref, watch } from 'vue'

import type { Finding } from '../api'
import { functions, keys, snippets } from './snippets'

// The text of a procedure, with findings at their lines as one types.
const props = defineProps<{ findings: Finding[]; names: string[]; readonly?: boolean }>()
const text = defineModel<string>({ required: true })
const place = ref<HTMLElement | null>(null)
let view: EditorView | null = null

const highlight = HighlightStyle.define([
  { tag: tags.definition(tags.propertyName), color: 'var(--volts)' },
  { tag: tags.propertyName, color: 'var(--volts)' },
  { tag: tags.string, color: 'var(--watts)' },
  { tag: tags.comment, color: 'var(--muted)', fontStyle: 'italic' },
  { tag: tags.punctuation, color: 'var(--muted)' },
  { tag: tags.separator, color: 'var(--muted)' },
])

const look = EditorView.theme({
  '&': { fontSize: '13px', height: '100%', color: 'var(--ink)', backgroundColor: 'transparent' },
  '.cm-content': {
    fontFamily: 'ui-monospace, "DejaVu Sans Mono", monospace',
    caretColor: 'var(--ink)',
    padding: '10px 0',
  },
  '.cm-gutters': { backgroundColor: 'transparent', color: 'var(--muted)', border: 'none' },
  '.cm-activeLine, .cm-activeLineGutter': { backgroundColor: 'color-mix(in srgb, var(--line) 40%, transparent)' },
  '&.cm-focused': { outline: 'none' },
  '.cm-cursor': { borderLeftColor: 'var(--ink)' },
  '&.cm-focused .cm-selectionBackground, .cm-selectionBackground': {
    backgroundColor: 'color-mix(in srgb, var(--live-fill) 35%, transparent) !important',
  },
  '.cm-tooltip': {
    backgroundColor: 'var(--raised)',
    color: 'var(--ink)',
    border: '1px solid var(--line)',
    borderRadius: '8px',
    maxWidth: '520px',
  },
  '.cm-tooltip-autocomplete ul li[aria-selected]': { backgroundColor: 'var(--idle-fill)', color: 'var(--ink)' },
  '.cm-diagnostic-error': { borderLeftColor: 'var(--fail)' },
  '.cm-panels': { backgroundColor: 'var(--surface)', color: 'var(--ink)' },
})

// complete offers keys at the beginning of an entry, whole stages after a dash, and names elsewhere.
function complete(context: CompletionContext): CompletionResult | null {
  const word = context.matchBefore(/[\w.]+/)
  if (!word && !context.explicit) return null
  const line = context.state.doc.lineAt(context.pos)
  const before = line.text.slice(0, (word?.from ?? context.pos) - line.from)
  const from = word?.from ?? context.pos
  if (/^\s*-\s*$/.test(before)) {
    const indent = ' '.repeat(before.indexOf('-'))
    return {
      from,
      options: [
        ...snippets.map((s) =>
          snippetCompletion(
            s.text.replace(/^- /, '').replaceAll('\n', `\n${indent}`).replaceAll('{', '\\{').replaceAll('}', '\\}'),
            { label: s.kind, detail: s.about, type: 'class' },
          ),
        ),
        ...['name', 'note'].map((label) => ({ label: `${label}: `, type: 'keyword' })),
      ],
    }
  }
  if (/^\s*$/.test(before) || /[{,]\s*$/.test(before)) {
    return {
      from,
      options: [
        ...keys.map((k) => ({ label: k, apply: `${k}: `, type: 'keyword' })),
        ...props.names.map((label) => ({ label, type: 'variable' })),
      ],
    }
  }
  return {
    from,
    options: [
      ...props.names.map((label) => ({ label, type: 'variable' })),
      ...functions.map((label) => ({ label, type: 'function' })),
    ],
  }
}

function showFindings() {
  if (!view) return
  const doc = view.state.doc
  const diagnostics: Diagnostic[] = props.findings.map((f) => {
    const line = doc.line(Math.min(Math.max(f.line, 1), doc.lines))
    const from = Math.min(line.from + Math.max(f.column - 1, 0), line.to)
    const rest = /^[^\s,}\]]*/.exec(line.text.slice(from - line.from))?.[0].length ?? 0
    return {
      from,
      to: Math.min(from + Math.max(rest, 1), Math.max(line.to, from)),
      severity: 'error',
      message: f.message,
    }
  })
  view.dispatch(setDiagnostics(view.state, diagnostics))
}

onMounted(() => {
  const nonce = document.querySelector<HTMLMetaElement>('meta[name=csp-nonce]')?.content ?? ''
  view = new EditorView({
    parent: place.value ?? undefined,
    state: EditorState.create({
      doc: text.value,
      extensions: [
        EditorView.cspNonce.of(nonce),
        lineNumbers(),
        history(),
        highlightActiveLine(),
        highlightSelectionMatches(),
        yaml(),
        syntaxHighlighting(highlight),
        lintGutter(),
        EditorView.lineWrapping,
        autocompletion({ override: [complete] }),
        look,
        EditorState.tabSize.of(2),
        EditorState.readOnly.of(props.readonly ?? false),
        EditorView.contentAttributes.of({ 'aria-label': 'Text of the procedure' }),
        keymap.of([...completionKeymap, ...defaultKeymap, ...historyKeymap, ...searchKeymap, indentWithTab]),
        EditorView.updateListener.of((u) => {
          if (u.docChanged) text.value = u.state.doc.toString()
        }),
      ],
    }),
  })
  showFindings()
})
onUnmounted(() => view?.destroy())

watch(text, (now) => {
  if (!view || view.state.doc.toString() === now) return
  view.dispatch({ changes: difference(view.state.doc.toString(), now) })
})
watch(() => props.findings, showFindings)

// difference is the one stretch in which two texts differ, so that the place where one looks stays.
function difference(old: string, now: string) {
  let from = 0
  while (from < old.length && from < now.length && old[from] === now[from]) from++
  let tail = 0
  while (
    tail < old.length - from &&
    tail < now.length - from &&
    old[old.length - 1 - tail] === now[now.length - 1 - tail]
  )
    tail++
  return { from, to: old.length - tail, insert: now.slice(from, now.length - tail) }
}

function goTo(line: number) {
  if (!view) return
  const at = view.state.doc.line(Math.min(Math.max(line, 1), view.state.doc.lines))
  view.dispatch({
    selection: { anchor: at.from },
    effects: EditorView.scrollIntoView(at.from, { y: 'start', yMargin: 60 }),
  })
  view.focus()
}
defineExpose({ goTo })
</script>

<template><div ref="place" class="text" data-test="procedure-text" /></template>

<style scoped>
.text {
  height: 100%;
  min-height: 0;
  overflow: hidden;
  border: 1px solid var(--line);
  border-radius: 10px;
  background: var(--surface);
}
.text :deep(.cm-editor) {
  height: 100%;
}
.text :deep(.cm-scroller) {
  overflow: auto;
}
</style>
