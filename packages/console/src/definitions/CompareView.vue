<script setup lang="ts">
import { yaml } from '@codemirror/lang-yaml'
import { MergeView } from '@codemirror/merge'
import { EditorState } from '@codemirror/state'
import { EditorView, lineNumbers } from '@codemirror/view'
import { onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { editorTheme } from './editor-theme.js'

/** Two texts side by side, what differs marked. */
const props = defineProps<{ earlier: string; later: string }>()
const host = ref<HTMLElement>()
let view: MergeView | undefined

onMounted(draw)
watch(() => [props.earlier, props.later], draw)
onBeforeUnmount(() => view?.destroy())

function draw() {
  view?.destroy()
  const extensions = [yaml(), lineNumbers(), editorTheme, EditorState.readOnly.of(true), EditorView.editable.of(false)]
  view = new MergeView({
    parent: host.value as HTMLElement,
    a: { doc: props.earlier, extensions },
    b: { doc: props.later, extensions },
    collapseUnchanged: { margin: 3, minSize: 6 },
  })
}
</script>

<template>
  <div ref="host" class="mono compare" data-test="compare" />
</template>

<style scoped>
.compare {
  max-height: calc(100vh - 300px);
  overflow: auto;
  border: 1px solid rgba(var(--v-theme-on-surface), 0.2);
  border-radius: 4px;
}
</style>
