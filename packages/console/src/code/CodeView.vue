<script setup lang="ts">
import { javascript } from '@codemirror/lang-javascript'
import { EditorState } from '@codemirror/state'
import { EditorView } from '@codemirror/view'
import { basicSetup } from 'codemirror'
import { onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { editorTheme } from '../definitions/editor-theme.js'

/** A file of TypeScript, to be read. */
const props = defineProps<{ text: string }>()
const host = ref<HTMLElement>()
let view: EditorView | undefined

onMounted(() => {
  view = new EditorView({ parent: host.value as HTMLElement, state: stateOf(props.text) })
  // What scrolls can be reached with the keyboard.
  view.scrollDOM.tabIndex = 0
})
onBeforeUnmount(() => view?.destroy())
watch(
  () => props.text,
  (text) => {
    view?.setState(stateOf(text))
    host.value?.scrollTo({ top: 0 })
  },
)

function stateOf(doc: string) {
  return EditorState.create({
    doc,
    extensions: [
      basicSetup,
      javascript({ typescript: true }),
      editorTheme,
      EditorState.readOnly.of(true),
      EditorView.contentAttributes.of({ 'aria-label': 'Code' }),
    ],
  })
}
</script>

<template>
  <div ref="host" class="code mono" data-test="code" />
</template>

<style scoped>
.code {
  height: 100%;
  overflow: auto;
  font-size: 0.8125rem;
}
</style>
