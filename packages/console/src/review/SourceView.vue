<script setup lang="ts">
import { javascript } from '@codemirror/lang-javascript'
import { lintGutter, setDiagnostics, type Diagnostic } from '@codemirror/lint'
import { EditorState } from '@codemirror/state'
import { EditorView } from '@codemirror/view'
import { basicSetup } from 'codemirror'
import { onBeforeUnmount, onMounted, ref, watch } from 'vue'
import type { ReviewFinding } from '@ledgerman/contract'
import { editorTheme } from '../definitions/editor-theme.js'

/** A file as it is reviewed: it can be edited, and findings stand beside its lines. */
const props = defineProps<{ text: string; path: string; findings: readonly ReviewFinding[] }>()
const emit = defineEmits<{ 'update:text': [text: string] }>()
const host = ref<HTMLElement>()
let view: EditorView | undefined

onMounted(() => {
  view = new EditorView({ parent: host.value as HTMLElement, state: stateOf(props.text) })
  mark()
})
onBeforeUnmount(() => view?.destroy())
watch(
  () => [props.path, props.text] as const,
  ([, text]) => {
    if (view && view.state.doc.toString() !== text) view.setState(stateOf(text))
  },
)
watch(() => props.findings, mark, { flush: 'post' })

function stateOf(doc: string) {
  const isScript = /\.(ts|tsx|js|mjs|cjs|java|cs|php)$/.test(props.path)
  return EditorState.create({
    doc,
    extensions: [
      basicSetup,
      ...(isScript ? [javascript({ typescript: true })] : []),
      editorTheme,
      lintGutter(),
      EditorView.contentAttributes.of({ 'aria-label': 'Code' }),
      EditorView.updateListener.of((update) => {
        if (update.docChanged) emit('update:text', update.state.doc.toString())
      }),
    ],
  })
}

function mark() {
  if (!view) return
  const { state } = view
  const diagnostics = props.findings
    .filter(({ accepted }) => accepted === undefined)
    .map((each): Diagnostic => {
      const from = offsetOf(state, each.line, each.column)
      const to = Math.max(from + 1, offsetOf(state, each.endLine, each.endColumn))
      return {
        from,
        to: Math.min(to, state.doc.length),
        severity: each.level === 'note' ? 'info' : each.level,
        message: `${each.rule}: ${each.message}`,
      }
    })
  view.dispatch(setDiagnostics(state, diagnostics))
}

function offsetOf({ doc }: EditorState, line: number, column: number): number {
  const at = doc.line(Math.min(Math.max(line, 1), doc.lines))
  return Math.min(at.from + Math.max(column - 1, 0), at.to)
}

/** Puts the cursor at a place, and shows it. */
function goTo(line: number, column: number) {
  if (!view) return
  const anchor = offsetOf(view.state, line, column)
  view.dispatch({ selection: { anchor }, effects: EditorView.scrollIntoView(anchor, { y: 'center' }) })
  view.focus()
}
defineExpose({ goTo })
</script>

<template>
  <div ref="host" class="source mono" data-test="source" />
</template>

<style scoped>
.source,
.source :deep(.cm-editor) {
  height: 100%;
  font-size: 0.8125rem;
}
</style>
