<script setup lang="ts">
import {
  mdiBookOpenVariantOutline,
  mdiCodeBraces,
  mdiFileSearchOutline,
  mdiFireExtinguisher,
  mdiKeyboardOutline,
  mdiLogout,
  mdiPencilBoxMultipleOutline,
  mdiPlaylistCheck,
  mdiSitemapOutline,
  mdiTableEdit,
  mdiThemeLightDark,
  mdiTimerSand,
  mdiTrayFull,
  mdiViewDashboardOutline,
} from '@mdi/js'
import { computed, onMounted, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { useDisplay, useTheme } from 'vuetify'
import { isProblem, type Role } from '@ledgerman/contract'
import { useDraft } from '../drafts/useDraft.js'
import { useSession } from '../session/useSession.js'
import { useTargets } from '../targets/useTargets.js'
import { rememberTheme } from '../theme.js'
import GuideBar from '../guide/GuideBar.vue'
import KeySheet from './KeySheet.vue'
import { pageFailure } from './page-failure.js'
import { useKeys } from './useKeys.js'

/** The pages of a target: a link to the first route, which is marked on all of them, and the role that all of it needs. */
const PAGES: { title: string; icon: string; routes: string[]; role?: Role }[] = [
  { title: 'Overview', icon: mdiViewDashboardOutline, routes: ['overview'] },
  { title: 'Records', icon: mdiTableEdit, routes: ['records', 'record', 'add', 'change-all', 'from-file'] },
  { title: 'Transactions', icon: mdiPlaylistCheck, routes: ['transactions'] },
  { title: 'Jobs', icon: mdiTrayFull, routes: ['jobs', 'job'] },
  { title: 'Drills', icon: mdiFireExtinguisher, routes: ['drills'], role: 'author' },
  { title: 'Waits', icon: mdiTimerSand, routes: ['waits'], role: 'author' },
  { title: 'Tables', icon: mdiSitemapOutline, routes: ['tables'] },
  { title: 'Book', icon: mdiBookOpenVariantOutline, routes: ['book', 'entry'] },
  { title: 'Code', icon: mdiCodeBraces, routes: ['code'], role: 'author' },
  { title: 'Review', icon: mdiFileSearchOutline, routes: ['review'], role: 'author' },
]

/** Of these a token that is limited to some definitions can use something. */
const FOR_FORMS = ['Records', 'Transactions']

const route = useRoute()
const router = useRouter()
const theme = useTheme()
const { width } = useDisplay()
/** From here down the pages need the width more than the menu does its words. */
const isNarrow = computed(() => width.value < 1000)
const { session, may, signOut } = useSession()
const { targets, refresh } = useTargets()
const target = computed(() => String(route.params['target'] ?? ''))
const staged = computed(() => (target.value === '' ? 0 : useDraft(target.value).pending.value.length))
const current = computed(() => targets.value.find((each) => each.name === target.value))
const pages = computed(() =>
  PAGES.filter(
    ({ title, role }) => (!session.value?.only || FOR_FORMS.includes(title)) && (role === undefined || may(role)),
  ).map(({ title, icon, routes }) => ({
    title,
    icon,
    to: { name: routes[0], params: { target: target.value } },
    isActive: routes.includes(String(route.name)),
  })),
)

const isSheetOpen = ref(false)
useKeys({
  showSheet: () => (isSheetOpen.value = true),
  openPage: (at) => {
    const page = pages.value[at]
    if (target.value !== '' && page) void router.push(page.to)
  },
})

// The page itself says what is wrong when the service does not answer.
onMounted(() => void refresh().catch(() => undefined))

function choose(name: string | null) {
  if (name !== null) void router.push({ name: session.value?.only ? 'records' : 'overview', params: { target: name } })
}

function switchTheme() {
  const name = theme.current.value.dark ? 'light' : 'dark'
  theme.change(name)
  rememberTheme(name)
}

async function leave() {
  try {
    await signOut()
  } catch (error) {
    const why = isProblem(error) ? error.detail : String(error)
    pageFailure.value = { message: `You are not signed out. ${why}`, to: null }
    return
  }
  await router.push({ name: 'sign-in' })
}

function tryAgain() {
  const to = pageFailure.value?.to
  pageFailure.value = null
  if (to) void router.push(to)
  else void leave()
}
</script>

<template>
  <v-app-bar density="compact" flat border="b">
    <v-app-bar-title class="flex-0-0 font-weight-bold mr-6" style="min-width: 130px">Ledgerman</v-app-bar-title>
    <v-select
      :model-value="target"
      :items="targets.map((each) => each.name)"
      aria-label="Target"
      hide-details
      style="max-width: 220px"
      @update:model-value="choose"
    />
    <v-chip v-if="current && !current.reachable" color="error" size="small" class="ml-3">unreachable</v-chip>
    <v-chip
      v-else-if="current?.book === 'not prepared'"
      color="warning"
      size="small"
      class="ml-3"
      title="ledgerman book prepare"
      >book not prepared</v-chip
    >
    <v-chip
      v-for="warning in current?.warnings"
      :key="warning"
      color="warning"
      size="small"
      class="ml-3"
      :title="warning"
      >check the role</v-chip
    >
    <v-spacer />
    <v-btn
      v-if="staged > 0"
      :to="{ name: 'draft', params: { target } }"
      :prepend-icon="mdiPencilBoxMultipleOutline"
      size="small"
      class="mr-3"
      data-test="draft"
      >Draft: {{ staged }}</v-btn
    >
    <span class="text-medium-emphasis mr-3">{{ session?.actor }} · {{ session?.role }}</span>
    <v-btn
      icon
      variant="text"
      size="small"
      aria-label="Keys"
      title="Keys: ?"
      data-test="show-keys"
      @click="isSheetOpen = true"
      ><v-icon :icon="mdiKeyboardOutline"
    /></v-btn>
    <v-btn icon variant="text" size="small" aria-label="Light or dark" title="Light or dark" @click="switchTheme"
      ><v-icon :icon="mdiThemeLightDark"
    /></v-btn>
    <v-btn icon variant="text" size="small" aria-label="Sign out" title="Sign out" @click="leave"
      ><v-icon :icon="mdiLogout"
    /></v-btn>
  </v-app-bar>
  <v-navigation-drawer permanent width="170" :rail="isNarrow">
    <v-list v-if="target" nav density="compact" role="navigation" aria-label="Pages">
      <v-list-item
        v-for="page in pages"
        :key="page.title"
        :to="page.to"
        :active="page.isActive"
        :prepend-icon="page.icon"
        :title="page.title"
        :aria-label="page.title"
      />
    </v-list>
  </v-navigation-drawer>
  <v-main>
    <slot />
  </v-main>
  <v-snackbar :model-value="pageFailure !== null" :timeout="-1" role="alert" data-test="page-failure">
    {{ pageFailure?.message }}
    <template #actions>
      <v-btn variant="text" data-test="try-again" @click="tryAgain">Try again</v-btn>
      <v-btn variant="text" @click="pageFailure = null">Close</v-btn>
    </template>
  </v-snackbar>
  <GuideBar v-if="target !== ''" :target="target" />
  <KeySheet v-model="isSheetOpen" />
</template>
