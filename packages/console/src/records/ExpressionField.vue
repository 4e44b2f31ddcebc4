<script setup lang="ts">
import {
  acceptCompletion,
  autocompletion,
  closeBrackets,
  completionKeymap,
  type CompletionContext,
} from '@codemirror/autocomplete'
import { Compartment, EditorState } from '@codemirror/state'
import { EditorView, keymap, placeholder as placeholderOf } from '@codemirror/view'
import { onBeforeUnmount, onMounted, ref, watch } from 'vue'

/** What can be named in an expression, and what it is. */
export interface Completable {
  label: string
  detail: string
}

const props = defineProps<{
  modelValue: string
  names: readonly Completable[]
  placeholder: string
  isWrong: boolean
}>()
const emit = defineEmits<{ 'update:modelValue': [text: string]; submit: [] }>()
const WORDS = [
  'and',
  'or',
  'not',
  'is null',
  'is not null',
  'in (',
  'between',
  'like',
  'ilike',
  '= any(',
  'exists(',
  'count(',
]
const host = ref<HTMLElement>()
const label = new Compartment()
let view: EditorView | undefined

onMounted(() => {
  view = new EditorView({
    parent: host.value as HTMLElement,
    state: EditorState.create({
      doc: props.modelValue,
      extensions: [
        // One line: an expression is sent with Enter.
        EditorState.transactionFilter.of((change) => (change.newDoc.lines > 1 ? [] : change)),
        closeBrackets(),
        autocompletion({ override: [complete], icons: false }),
        keymap.of([
          { key: 'Tab', run: acceptCompletion },
          ...completionKeymap,
          { key: 'Enter', run: () => (emit('submit'), true) },
        ]),
        placeholderOf(props.placeholder),
        label.of(EditorView.contentAttributes.of({ 'aria-label': 'Filter', 'data-test': 'filter' })),
        EditorView.updateListener.of((update) => {
          if (update.docChanged) emit('update:modelValue', update.state.doc.toString())
        }),
      ],
    }),
  })
})
onBeforeUnmount(() => view?.destroy())
watch(
  () => props.modelValue,
  (text) => {
    if (view && view.state.doc.toString() !== text)
      view.dispatch({ changes: { from: 0, to: view.state.doc.length, insert: text } })
  },
)

function complete(context: CompletionContext) {
  // eslint-disable-next-line regexp/no-super-linear-move -- the editor looks back 250 characters at most
  const word = context.matchBefore(/[\p{L}_][\p{L}\p{N}_.]*/u)
  if (!word && !context.explicit) return null
  return {
    from: word?.from ?? context.pos,
    options: [
      ...props.names.map(({ label: name, detail }) => ({ label: name, detail, boost: name.includes('.') ? 0 : 1 })),
      ...WORDS.map((each) => ({ label: each, boost: -1 })),
    ],
    validFor: /^[\p{L}\p{N}_.]*$/u,
  }
}
</script>

<template>
  <div ref="host" class="expression mono" :class="{ wrong: isWrong }" />
</template>

<style scoped>
.expression {
  border: 1px solid rgba(var(--v-theme-on-surface), 0.38);
  border-radius: 4px;
  background: rgb(var(--v-theme-surface));
}
.expression:focus-within {
  border-color: rgb(var(--v-theme-primary));
  outline: 1px solid rgb(var(--v-theme-primary));
}
.expression.wrong {
  border-color: rgb(var(--v-theme-error));
}
.expression :deep(.cm-editor) {
  outline: none;
}
.expression :deep(.cm-content) {
  padding: 7px 8px;
  font-family: inherit;
  caret-color: rgb(var(--v-theme-on-surface));
}
.expression :deep(.cm-scroller) {
  font-family: inherit;
}
.expression :deep(.cm-tooltip) {
  background: rgb(var(--v-theme-surface));
  border: 1px solid rgba(var(--v-theme-on-surface), 0.2);
}
.expression :deep(.cm-tooltip-autocomplete li[aria-selected]) {
  background: rgb(var(--v-theme-primary)) !important;
  color: rgb(var(--v-theme-on-primary)) !important;
}
</style>
