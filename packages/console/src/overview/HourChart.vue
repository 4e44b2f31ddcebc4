<script setup lang="ts">
import { BarElement, CategoryScale, Chart, Legend, LinearScale, Tooltip } from 'chart.js'
import { computed } from 'vue'
import { Bar } from 'vue-chartjs'
import { useTheme } from 'vuetify'
import type { Overview } from '@ledgerman/contract'

/** Counts by hour, as bars; the same as words for who does not see them. */
const props = defineProps<{ hours: Overview['hours']; of: readonly ('committed' | 'refused' | 'rows')[] }>()
Chart.register(BarElement, CategoryScale, LinearScale, Tooltip, Legend)

const theme = useTheme()
const colors = computed(() => theme.current.value.colors)
const sums = computed(() =>
  props.of
    .map((name) => `${props.hours.reduce((sum, hour) => sum + hour[name], 0)} ${WORDS[name].toLowerCase()}`)
    .join(', '),
)
const WORDS = { committed: 'Committed', refused: 'Refused', rows: 'Rows changed' }
const data = computed(() => ({
  labels: props.hours.map(({ at }) => hourOf(at)),
  datasets: props.of.map((name) => ({
    label: WORDS[name],
    data: props.hours.map((hour) => hour[name]),
    backgroundColor: name === 'refused' ? String(colors.value['error']) : String(colors.value['primary']),
  })),
}))
const options = computed(() => {
  const text = theme.current.value.dark ? '#cfd4d2' : '#4a5350'
  const grid = theme.current.value.dark ? '#ffffff22' : '#00000018'
  return {
    responsive: true,
    maintainAspectRatio: false,
    animation: false as const,
    plugins: { legend: { display: props.of.length > 1, labels: { color: text } } },
    scales: {
      x: { stacked: true, ticks: { color: text, maxRotation: 0 }, grid: { display: false } },
      y: { stacked: true, beginAtZero: true, ticks: { color: text, precision: 0 }, grid: { color: grid } },
    },
  }
})

/** In UTC, as all moments that are shown. */
function hourOf(at: string): string {
  return `${String(new Date(at).getUTCHours()).padStart(2, '0')}:00`
}
</script>

<template>
  <div class="chart">
    <Bar :data="data" :options="options" :aria-label="`By hour: ${sums}`" role="img" />
  </div>
</template>

<style scoped>
.chart {
  height: 180px;
}
</style>
