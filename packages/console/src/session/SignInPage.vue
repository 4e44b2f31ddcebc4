<script setup lang="ts">
import { ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import ProblemAlert from '../problems/ProblemAlert.vue'
import { useSession } from './useSession.js'

const route = useRoute()
const router = useRouter()
const { signIn } = useSession()
const token = ref('')
const problem = ref<unknown>(null)
const isBusy = ref(false)

async function submit() {
  isBusy.value = true
  problem.value = null
  try {
    await signIn(token.value)
    // Only a path of this console's own is returned to.
    const to = String(route.query['to'] ?? '/')
    await router.replace(to.startsWith('/') && !to.startsWith('//') ? to : '/')
  } catch (error) {
    problem.value = error
  } finally {
    isBusy.value = false
  }
}
</script>

<template>
  <v-container class="fill-height d-flex justify-center">
    <v-card width="440" class="pa-6">
      <h1 class="mb-1">Ledgerman</h1>
      <p class="text-medium-emphasis mb-5">Changes existing PostgreSQL records, and proves what it changed.</p>
      <form @submit.prevent="submit">
        <v-text-field
          v-model="token"
          label="Token"
          type="password"
          autocomplete="current-password"
          autofocus
          name="token"
          hint="bin/start prints the first one."
          persistent-hint
        />
        <ProblemAlert :problem="problem" class="mt-4" />
        <v-btn
          type="submit"
          color="primary"
          variant="flat"
          block
          class="mt-5"
          :loading="isBusy"
          :disabled="token.trim() === ''"
          >Sign in</v-btn
        >
      </form>
    </v-card>
  </v-container>
</template>
