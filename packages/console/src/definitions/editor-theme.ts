import { EditorView } from '@codemirror/view'

/** The editor in the page's own colours, light and dark. */
export const editorTheme = EditorView.theme({
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
