<script setup lang="ts">
import { computed, onBeforeUnmount, ref, watch } from 'vue'
import { useRoute } from 'vue-router'
import { isProblem, PREPARED_ENDS, type WaitingSession, type Waits } from '@ledgerman/contract'
import { formatInstant } from '../book/format-instant.js'
import { client } from '../client.js'
import ProblemAlert from '../problems/ProblemAlert.vue'
import { useSession } from '../session/useSession.js'
import WaitsPicture from './WaitsPicture.vue'

const ASK_AGAIN_MS = 1_000

const route = useRoute()
const { may } = useSession()
const target = computed(() => String(route.params['target']))
const waits = ref<Waits | null>(null)
const problem = ref<unknown>(null)
const selected = ref<number | null>(null)
const asked = ref<{ session: WaitingSession; action: 'cancel' | 'end' } | null>(null)
const sessions = computed(() => waits.value?.sessions ?? [])
/** Each root with those that wait for it under it, deeper ones further in; nobody twice. */
const tree = computed(() => {
  const lines: { session: WaitingSession; depth: number }[] = []
  const shown = new Set<number>()
  const hang = (one: WaitingSession, depth: number) => {
    if (shown.has(one.pid)) return
    shown.add(one.pid)
    lines.push({ session: one, depth })
    for (const waiter of sessions.value) if (waiter.blockedBy.includes(one.pid)) hang(waiter, depth + 1)
  }
  for (const one of sessions.value) if (one.blockedBy.length === 0) hang(one, 0)
  for (const one of sessions.value) hang(one, 0)
  return lines
})
/** Nothing before it is known, or when it is known no more. */
const summary = computed(() => {
  if (waits.value === null || problem.value !== null) return ''
  if (sessions.value.length === 0) return 'Nobody waits for a lock.'
  const blocked = sessions.value.filter((each) => each.blockedBy.length > 0).length
  const roots = sessions.value.filter((each) => each.isRoot).length
  return `${blocked} ${blocked === 1 ? 'session' : 'sessions'} blocked by ${roots}.`
})
let watching = new AbortController()

watch(
  target,
  () => {
    waits.value = selected.value = asked.value = null
    void follow()
  },
  { immediate: true },
)
onBeforeUnmount(() => watching.abort())

async function follow() {
  watching.abort()
  watching = new AbortController()
  const { signal } = watching
  problem.value = null
  // A service that breaks off, or is away for a while, is asked again: who waits is what one looks for then.
  for (let isAway = true; isAway && !signal.aborted;) {
    try {
      for await (const now of client.target(target.value).watchWaits(signal)) {
        waits.value = now
        problem.value = null
      }
    } catch (error) {
      if (!signal.aborted) problem.value = error
      isAway = isProblem(error, 'target-unavailable')
    }
    await new Promise((resolve) => setTimeout(resolve, ASK_AGAIN_MS))
  }
}

async function confirm() {
  const { value: chosen } = asked
  asked.value = null
  if (!chosen) return
  try {
    await client.target(target.value).endSession(chosen.session.pid, chosen.session.startedAt, chosen.action)
    waits.value = await client.target(target.value).waits()
  } catch (error) {
    problem.value = error
  }
}

function seconds(ms: number | null): string {
  return ms === null ? '' : `${(ms / 1000).toFixed(1)} s`
}
</script>

<template>
  <v-container fluid class="pa-4">
    <div class="d-flex align-center ga-4 mb-3">
      <h1>Waits</h1>
      <span class="text-medium-emphasis" data-test="waits-summary">{{ summary }}</span>
    </div>
    <ProblemAlert :problem="problem" class="mb-3"
      ><v-btn size="small" class="mt-2" @click="follow">Look again</v-btn></ProblemAlert
    >
    <v-card v-if="sessions.length > 0" class="mb-3">
      <WaitsPicture :sessions="sessions" :selected="selected" @select="(pid) => (selected = pid)" />
    </v-card>
    <v-card v-if="sessions.length > 0" class="mb-3">
      <v-table density="compact" data-test="waits">
        <thead>
          <tr>
            <th>Session</th>
            <th>State</th>
            <th class="number">Transaction</th>
            <th>Lock</th>
            <th class="number">Behind</th>
            <th>Last statement</th>
            <th />
          </tr>
        </thead>
        <tbody>
          <tr
            v-for="{ session: one, depth } in tree"
            :key="one.pid"
            :class="{ 'just-changed': one.pid === selected }"
            @click="selected = one.pid"
          >
            <td class="text-no-wrap" :style="{ paddingLeft: `${16 + depth * 20}px` }">
              <strong v-if="one.pid > 0">{{ one.pid }}</strong> {{ one.application }}
              <v-chip v-if="one.isRoot" size="x-small" color="error">root</v-chip>
              <v-chip v-if="one.isIdleTooLong" size="x-small" color="warning">idle too long</v-chip>
              <router-link v-if="one.run" :to="{ name: 'entry', params: { target, entry: one.run } }">run</router-link>
              <div class="small-note text-medium-emphasis">{{ one.user }}</div>
            </td>
            <td class="text-no-wrap">
              {{ one.pid > 0 ? one.state : 'prepared transaction' }}
              <div v-if="one.idleMs !== null" class="small-note text-medium-emphasis">
                idle {{ seconds(one.idleMs) }}
              </div>
            </td>
            <td class="number text-no-wrap">{{ seconds(one.transactionAgeMs) }}</td>
            <td>
              <template v-if="one.wants">waits for {{ one.wants }}{{ one.table ? ` of ${one.table}` : '' }}</template>
              <template v-else>{{ one.holds.length > 0 ? `holds ${one.holds.join('; ')}` : '' }}</template>
            </td>
            <td class="number">{{ one.behind || '' }}</td>
            <td v-if="one.pid > 0" class="mono statement">{{ one.lastStatement }}</td>
            <td v-else>{{ PREPARED_ENDS }}</td>
            <td class="text-no-wrap">
              <template v-if="may('admin') && one.pid > 0">
                <v-btn
                  size="x-small"
                  class="mr-1"
                  :data-test="`cancel-${one.pid}`"
                  @click.stop="asked = { session: one, action: 'cancel' }"
                  >Cancel</v-btn
                >
                <v-btn
                  size="x-small"
                  :data-test="`end-${one.pid}`"
                  @click.stop="asked = { session: one, action: 'end' }"
                  >End</v-btn
                >
              </template>
            </td>
          </tr>
        </tbody>
      </v-table>
    </v-card>
    <v-card v-if="waits && sessions.length === 0" class="mb-3" data-test="no-waits">
      <v-card-text>
        Sessions that wait for a lock are listed here as soon as they wait, with the sessions that hold it. From here an
        admin can cancel a statement or end a session. Sessions that are idle in a transaction for
        {{ seconds(waits.idleLimitMs) }} are listed as well, since they keep what they have locked.
        <p class="mt-3 mb-0">
          To see one, hold a row of the demo: <code class="mono">ledgerman demo hold --code P-107</code>, and change
          that record.
        </p>
      </v-card-text>
    </v-card>
    <v-card v-if="waits && waits.ended.length > 0" title="Cancelled or ended from here lately">
      <v-list density="compact">
        <v-list-item v-for="each in waits.ended" :key="`${each.at} ${each.pid}`">
          {{ formatInstant(each.at) }} UTC · {{ each.actor }} {{ each.action === 'end' ? 'ended' : 'cancelled' }}
          {{ each.pid }} ({{ each.application }}, {{ each.user }})
        </v-list-item>
      </v-list>
    </v-card>
    <v-dialog :model-value="asked !== null" max-width="520" @update:model-value="asked = null">
      <v-card
        v-if="asked"
        :title="`${asked.action === 'end' ? 'End session' : 'Cancel what runs in'} ${asked.session.pid}?`"
        data-test="ask-end"
      >
        <v-card-text>
          {{ asked.session.application }}, {{ asked.session.user }}, {{ asked.session.state }}.
          {{
            asked.action === 'end'
              ? 'Its transaction is rolled back, and its program loses the connection.'
              : 'Its statement fails; its transaction has to be rolled back by its program.'
          }}
          {{ asked.session.behind > 0 ? `${asked.session.behind} wait behind it.` : '' }}
          <pre class="mono mt-2 statement">{{ asked.session.lastStatement }}</pre>
        </v-card-text>
        <v-card-actions>
          <v-spacer />
          <v-btn autofocus @click="asked = null">Leave it</v-btn>
          <v-btn color="error" variant="flat" data-test="confirm-end" @click="confirm">{{
            asked.action === 'end' ? 'End it' : 'Cancel it'
          }}</v-btn>
        </v-card-actions>
      </v-card>
    </v-dialog>
  </v-container>
</template>

<style scoped>
.statement {
  max-width: 340px;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
}
</style>
