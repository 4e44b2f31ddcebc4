<script setup lang="ts">
import { yaml } from '@codemirror/lang-yaml'
import { lintGutter, linter, type Diagnostic } from '@codemirror/lint'
import { Compartment, EditorState, type Text } from '@codemirror/state'
import { EditorView } from '@codemirror/view'
import { basicSetup } from 'codemirror'
import { onBeforeUnmount, onMounted, ref, watch } from 'vue'
import type { Finding } from '@ledgerman/contract'
import { editorTheme } from './editor-theme.js'

/** A definition as text, checked while it is typed. */
const props = defineProps<{ modelValue: string; readonly?: boolean; check?: (source: string) => Promise<Finding[]> }>()
const emit = defineEmits<{ 'update:modelValue': [source: string]; checked: [findings: Finding[]] }>()
const host = ref<HTMLElement>()
const editable = new Compartment()
let view: EditorView | undefined

onMounted(() => {
  view = new EditorView({
    parent: host.value as HTMLElement,
    state: EditorState.create({
      doc: props.modelValue,
      extensions: [
        basicSetup,
        yaml(),
        editorTheme,
        lintGutter(),
        linter(lint, { delay: 400 }),
        editable.of(EditorState.readOnly.of(props.readonly)),
        EditorView.contentAttributes.of({ 'aria-label': 'Definition' }),
        EditorView.updateListener.of((update) => {
          if (update.docChanged) emit('update:modelValue', update.state.doc.toString())
        }),
      ],
    }),
  })
  // What scrolls can be reached with the keyboard.
  view.scrollDOM.tabIndex = 0
})
onBeforeUnmount(() => view?.destroy())
watch(
  () => props.modelValue,
  (text) => {
    if (view && view.state.doc.toString() !== text)
      view.dispatch({ changes: { from: 0, to: view.state.doc.length, insert: text } })
  },
)

/** Puts the cursor at a finding's place, and shows it. */
function goTo({ line, column }: Finding) {
  if (!view) return
  const { from } = placeOf(view.state.doc, line, column)
  view.dispatch({ selection: { anchor: from }, effects: EditorView.scrollIntoView(from, { y: 'center' }) })
  view.focus()
}
defineExpose({ goTo })

function placeOf(doc: Text, line: number | null, column: number | null): { from: number; to: number } {
  const at = doc.line(Math.min(Math.max(line ?? 1, 1), doc.lines))
  return { from: Math.min(at.from + Math.max((column ?? 1) - 1, 0), at.to), to: at.to }
}

async function lint(editor: EditorView): Promise<Diagnostic[]> {
  if (!props.check) return []
  const { doc } = editor.state
  const findings = await props.check(doc.toString())
  emit('checked', findings)
  return findings.map(({ line, column, where, message, advice }) => {
    return {
      ...placeOf(doc, line, column),
      severity: 'error',
      message: [where ? `${where}: ${message}` : message, advice].filter(Boolean).join('\n'),
    }
  })
}
</script>

<template>
  <div ref="host" class="editor mono" data-test="editor" />
</template>

<style scoped>
.editor :deep(.cm-editor) {
  max-height: calc(100vh - 340px);
  min-height: 260px;
  border: 1px solid rgba(var(--v-theme-on-surface), 0.2);
  border-radius: 4px;
}
</style>
