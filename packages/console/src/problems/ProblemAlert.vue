<script setup lang="ts">
import { computed } from 'vue'
import { useRoute } from 'vue-router'
import { isProblem, problemCatalogue, type BrokenValue } from '@ledgerman/contract'

const props = defineProps<{ problem: unknown }>()
const route = useRoute()
const isSigningIn = computed(() => route.name === 'sign-in')
const isSignedOut = computed(() => isProblem(props.problem, 'unauthenticated'))
/** What the service says to programs is of no use here. */
const signedOutWords = computed(() =>
  isSigningIn.value
    ? 'This token is not known here, or was revoked.'
    : 'The session has ended, or its token was revoked. What stands here stays while you sign in.',
)
const shown = computed(() => {
  const { problem } = props
  if (problem === null || problem === undefined) return null
  if (isProblem(problem))
    return {
      title: problemCatalogue[problem.code].title,
      code: problem.code,
      detail: isSignedOut.value ? signedOutWords.value : problem.detail,
      broken: (problem.facts['broken'] as BrokenValue[] | undefined) ?? [],
    }
  return {
    title: 'Something went wrong in this page',
    code: '',
    detail: problem instanceof Error ? problem.message : String(problem),
    broken: [],
  }
})
</script>

<template>
  <v-alert
    v-if="shown"
    icon="$error"
    border="start"
    border-color="error"
    role="alert"
    :title="shown.title"
    data-test="problem"
  >
    <div>{{ shown.detail }}</div>
    <ul v-if="shown.broken.length > 0" class="broken" data-test="broken">
      <li v-for="each in shown.broken" :key="each.property">
        {{ each.property }}: <span class="mono">{{ each.masked ? 'not shown' : String(each.value) }}</span>
      </li>
    </ul>
    <div v-if="shown.code" class="mono mt-1">{{ shown.code }}</div>
    <router-link
      v-if="isSignedOut && !isSigningIn"
      :to="{ name: 'sign-in', query: { to: route.fullPath } }"
      target="_blank"
      data-test="sign-in-again"
      >Sign in again, in another tab</router-link
    >
    <slot />
  </v-alert>
</template>

<style scoped>
.broken {
  padding-inline-start: 1.25rem;
}
</style>
