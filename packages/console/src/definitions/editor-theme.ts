import { HighlightStyle, syntaxHighlighting } from '@codemirror/language'
import { EditorView } from '@codemirror/view'
import { tags } from '@lezer/highlight'

const theme = EditorView.theme({
  '&': { backgroundColor: 'rgb(var(--v-theme-surface))', color: 'rgb(var(--v-theme-on-surface))' },
  '.cm-content': { caretColor: 'rgb(var(--v-theme-on-surface))' },
  '.cm-placeholder': { color: 'rgba(var(--v-theme-on-surface), 0.72)' },
  '.cm-scroller': { fontFamily: 'inherit' },
  '.cm-gutters': {
    backgroundColor: 'rgba(var(--v-theme-on-surface), 0.04)',
    color: 'rgba(var(--v-theme-on-surface), 0.72)',
    border: 'none',
  },
  '.cm-activeLine, .cm-activeLineGutter': { backgroundColor: 'rgba(var(--v-theme-primary), 0.08)' },
  '&.cm-focused .cm-selectionBackground, .cm-selectionBackground': {
    backgroundColor: 'rgba(var(--v-theme-primary), 0.25) !important',
  },
  '.cm-tooltip': {
    backgroundColor: 'rgb(var(--v-theme-surface))',
    border: '1px solid rgba(var(--v-theme-on-surface), 0.2)',
    whiteSpace: 'pre-wrap',
    maxWidth: '560px',
  },
})

/** The editor's own colours of words are made for a light ground. */
const words = HighlightStyle.define([
  { tag: [tags.definition(tags.propertyName), tags.propertyName, tags.keyword], color: 'rgb(var(--v-theme-primary))' },
  { tag: [tags.string, tags.special(tags.string)], color: 'rgb(var(--v-theme-secondary))' },
  { tag: [tags.number, tags.bool, tags.null, tags.typeName], color: 'rgb(var(--v-theme-info))' },
  { tag: tags.comment, color: 'rgba(var(--v-theme-on-surface), 0.72)', fontStyle: 'italic' },
  { tag: tags.invalid, color: 'rgb(var(--v-theme-error))' },
])

/** The editor in the page's own colours, light and dark. */
export const editorTheme = [theme, syntaxHighlighting(words)]
