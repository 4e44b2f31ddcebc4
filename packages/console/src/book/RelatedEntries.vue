<script setup lang="ts">
import { computed, ref } from 'vue'

/** Entries that one has to do with, the newest first: what it puts back, or what put it back. */
const props = defineProps<{ words: string; ids: readonly string[]; target: string }>()
const SHOWN = 3
const isWhole = ref(false)
const shown = computed(() => (isWhole.value ? props.ids : props.ids.slice(0, SHOWN)))
</script>

<template>
  <p class="mb-2" data-test="relatives">
    {{ words }}{{ ids.length > SHOWN ? ` ${ids.length} entries, the newest first:` : '' }}
    <router-link
      v-for="id in shown"
      :key="id"
      class="mono mr-2"
      :to="{ name: 'entry', params: { target, entry: id } }"
      >{{ id }}</router-link
    >
    <a v-if="shown.length < ids.length" href="#" @click.prevent="isWhole = true"
      >and {{ ids.length - shown.length }} more</a
    >
  </p>
</template>
