<script setup lang="ts">
import { mdiCheckCircleOutline, mdiCompassOutline } from '@mdi/js'
import { STEPS, useGuide } from './useGuide.js'

/** What comes next in a guided first visit, on every page of it. */
defineProps<{ target: string }>()
const { done, step, isOver, end } = useGuide()
</script>

<template>
  <v-footer v-if="done !== null" app class="guide" elevation="6" role="status" data-test="guide">
    <v-icon :icon="isOver ? mdiCheckCircleOutline : mdiCompassOutline" class="mr-3" />
    <span v-if="isOver"
      >That is a change from beginning to end: rehearsed, committed, found in the book, and put back.</span
    >
    <span v-else-if="step"
      ><strong>{{ done + 1 }} of {{ STEPS.length }}</strong
      >&ensp;{{ step.says }}</span
    >
    <v-spacer />
    <v-btn
      v-if="step?.route && $route.name !== step.route"
      size="small"
      color="primary"
      variant="flat"
      class="mr-2"
      :to="{ name: step.route, params: { target } }"
      data-test="guide-go"
      >Take me there</v-btn
    >
    <v-btn size="small" data-test="guide-end" @click="end">{{ isOver ? 'Close' : 'End the guide' }}</v-btn>
  </v-footer>
</template>
