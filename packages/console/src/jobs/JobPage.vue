<script setup lang="ts">
import { computed, watch } from 'vue'
import { useRoute } from 'vue-router'
import { formatInstant } from '../book/format-instant.js'
import { client } from '../client.js'
import ProblemAlert from '../problems/ProblemAlert.vue'
import { describeJob } from './describe-job.js'
import JobCard from './JobCard.vue'
import { useJob } from './useJob.js'

const route = useRoute()
const target = computed(() => String(route.params['target']))
const id = computed(() => String(route.params['job']))
const { job, problem, follow, cancel } = useJob()

watch(id, () => void follow(() => client.job(id.value)), { immediate: true })
</script>

<template>
  <v-container fluid class="pa-4">
    <div class="d-flex align-center ga-3 mb-3">
      <v-btn :to="{ name: 'jobs', params: { target } }" size="small" data-test="back">Jobs</v-btn>
      <h1 class="ml-2">{{ job ? describeJob(job) : 'Job' }}</h1>
    </div>
    <p v-if="job" class="text-medium-emphasis mb-3">
      by {{ job.actor }}<template v-if="job.startedAt"> · begun {{ formatInstant(job.startedAt) }} UTC</template
      ><template v-if="job.endedAt"> · over {{ formatInstant(job.endedAt) }} UTC</template
      ><template v-if="job.note"> · {{ job.note }}</template>
    </p>
    <ProblemAlert :problem="problem" class="mb-3" />
    <JobCard v-if="job" :job="job" @cancel="cancel" @resume="follow(() => client.resumeJob(id))" />
  </v-container>
</template>
