<script setup lang="ts">
import { mdiViewColumnOutline } from '@mdi/js'
import { computed, ref } from 'vue'
import type { NamedProperty } from './useLinkedNames.js'

/** Which properties a list shows, those over links among them. */
const props = defineProps<{ named: readonly NamedProperty[]; chosen: readonly string[] }>()
const emit = defineEmits<{ choose: [paths: string[] | undefined] }>()
const isOpen = ref(false)
const search = ref('')
const shown = computed(() =>
  props.named.filter(({ path }) => path.toLowerCase().includes(search.value.trim().toLowerCase())),
)

function toggle(path: string) {
  const { chosen } = props
  const next = chosen.includes(path) ? chosen.filter((each) => each !== path) : [...chosen, path]
  if (next.length > 0) emit('choose', next)
}
</script>

<template>
  <v-menu v-model="isOpen" :close-on-content-click="false">
    <template #activator="{ props: activator }">
      <v-btn v-bind="activator" :prepend-icon="mdiViewColumnOutline" data-test="columns">Columns</v-btn>
    </template>
    <v-card width="320" class="pa-2">
      <v-text-field v-model="search" label="Property, links followed" hide-details autofocus />
      <v-list density="compact" max-height="380" class="overflow-y-auto">
        <v-list-item
          v-for="{ path, property } in shown"
          :key="path"
          :data-test="`column-${path}`"
          @click="toggle(path)"
        >
          <template #prepend>
            <v-checkbox-btn :model-value="chosen.includes(path)" tabindex="-1" class="flex-0-0" />
          </template>
          <v-list-item-title>{{ path }}</v-list-item-title>
          <template #append
            ><span class="text-medium-emphasis small-note">{{ property.type }}</span></template
          >
        </v-list-item>
      </v-list>
      <v-btn size="small" block @click="emit('choose', undefined)">All of its own</v-btn>
    </v-card>
  </v-menu>
</template>
