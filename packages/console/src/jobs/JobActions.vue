<script setup lang="ts">
import type { RunMode } from '@ledgerman/contract'

/** Rehearses a change of many records, and commits exactly what was rehearsed. */
defineProps<{ canRehearse: boolean; canCommit: boolean; isRehearsed: boolean }>()
const emit = defineEmits<{ begin: [mode: RunMode] }>()
</script>

<template>
  <v-card-actions>
    <v-spacer />
    <v-btn :disabled="!canRehearse" variant="tonal" data-test="rehearse" @click="emit('begin', 'rehearse')"
      >Rehearse</v-btn
    >
    <v-btn
      :disabled="!canCommit"
      color="primary"
      variant="flat"
      data-test="commit"
      :title="isRehearsed ? 'Commits exactly what was rehearsed' : 'Rehearse it first'"
      @click="emit('begin', 'commit')"
      >Commit exactly this</v-btn
    >
  </v-card-actions>
</template>
