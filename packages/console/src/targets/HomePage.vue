<script setup lang="ts">
import { onMounted, ref } from 'vue'
import { useRouter } from 'vue-router'
import { useSession } from '../session/useSession.js'
import ProblemAlert from '../problems/ProblemAlert.vue'
import { useTargets } from './useTargets.js'

const router = useRouter()
const { session } = useSession()
const { targets, refresh } = useTargets()
const problem = ref<unknown>(null)
const isEmpty = ref(false)

onMounted(async () => {
  try {
    await refresh()
    const first = targets.value.find((target) => target.reachable) ?? targets.value[0]
    if (first)
      await router.replace({ name: session.value?.only ? 'records' : 'overview', params: { target: first.name } })
    else isEmpty.value = true
  } catch (error) {
    problem.value = error
  }
})
</script>

<template>
  <v-container>
    <ProblemAlert :problem="problem" />
    <v-alert v-if="isEmpty" type="info" variant="tonal" title="There are no targets yet"
      >Add a database with bin/start --target NAME=URL, or in the configuration.</v-alert
    >
  </v-container>
</template>
