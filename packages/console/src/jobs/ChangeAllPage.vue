<script setup lang="ts">
import { mdiClose, mdiPlus } from '@mdi/js'
import { computed, reactive, ref, watch } from 'vue'
import { useRoute } from 'vue-router'
import { propertyFromText } from '@ledgerman/client'
import { IMAGES, isProblem, type Images, type MappingInfo, type RunMode } from '@ledgerman/contract'
import { client } from '../client.js'
import ProblemAlert from '../problems/ProblemAlert.vue'
import type { FieldState } from '../records/field-state.js'
import PropertyField from '../records/PropertyField.vue'
import JobActions from './JobActions.vue'
import JobCard from './JobCard.vue'
import { useJob } from './useJob.js'

/** How one property gets its new value in all rows. */
interface Assignment {
  property: string
  by: 'value' | 'expression'
  field: FieldState
  expression: string
}

const route = useRoute()
const target = computed(() => String(route.params['target']))
const name = computed(() => String(route.params['mapping']))
const where = computed(() => (typeof route.query['where'] === 'string' ? route.query['where'] : ''))
const mapping = ref<MappingInfo | null>(null)
const loadProblem = ref<unknown>(null)
const action = ref<'change' | 'remove'>('change')
const assignments = reactive<Assignment[]>([])
const images = ref<Images>('changed')
const note = ref('')
const isEveryRow = ref(false)
const { job, problem, isBusy, rehearsal, canCommit, follow, forget, cancel } = useJob()
const properties = computed(() => (mapping.value?.properties ?? []).filter(({ writable, key }) => writable && !key))
const errors = computed(() => assignments.map(errorOf))
/** Whether the filter was found to leave no record out: that is done only where somebody says that it is meant. */
const leavesNoneOut = computed(() => job.value?.problem?.['everyRow'] === true)
const canRehearse = computed(
  () =>
    !isBusy.value &&
    (where.value !== '' || isEveryRow.value) &&
    (action.value === 'remove' || (assignments.length > 0 && errors.value.every((error) => error === undefined))),
)

watch(
  [target, name],
  async () => {
    try {
      mapping.value = await client.target(target.value).mapping(name.value)
      if (assignments.length === 0) add()
    } catch (error) {
      loadProblem.value = error
    }
  },
  { immediate: true },
)
// What was rehearsed is not what stands here any more.
watch([assignments, action, images, isEveryRow, where], () => job.value?.mode === 'rehearse' && forget(), {
  deep: true,
})

watch(where, () => (isEveryRow.value = false))

function add() {
  const free = properties.value.find(({ name: each }) => !assignments.some(({ property }) => property === each))
  if (free)
    assignments.push({ property: free.name, by: 'expression', field: { text: '', isNull: true }, expression: '' })
}

/** Properties that this one may set: none is set twice. */
function choicesFor({ property }: Assignment): string[] {
  const taken = assignments.map((each) => each.property).filter((each) => each !== property)
  return properties.value.map((each) => each.name).filter((each) => !taken.includes(each))
}

/** Another property begins with nothing: a value of the one before may be none of it. */
function choose(assignment: Assignment, property: string) {
  Object.assign(assignment, { property, field: { text: '', isNull: true }, expression: '' })
}

/** What an expression may look like. */
function exampleFor({ property }: Assignment): string {
  const type = properties.value.find(({ name: each }) => each === property)?.type ?? ''
  return /^(smallint|integer|bigint|numeric|real|double)/.test(type) ? `${property} + 1` : `coalesce(${property}, …)`
}

function infoOf({ property }: Assignment) {
  return properties.value.find(({ name: each }) => each === property)
}

function errorOf(assignment: Assignment): string | undefined {
  const { by, expression, field } = assignment
  if (by === 'expression') return expression.trim() === '' ? 'an expression is needed' : undefined
  const info = infoOf(assignment)
  if (!info || field.isNull) return undefined
  try {
    propertyFromText(info, field.text)
    return undefined
  } catch (error) {
    return isProblem(error) ? error.detail : String(error)
  }
}

function begin(mode: RunMode) {
  const of = (by: Assignment['by']) => assignments.filter((each) => each.by === by)
  const values = Object.fromEntries(
    of('value').map((each) => {
      const info = infoOf(each)
      return [each.property, each.field.isNull || !info ? null : propertyFromText(info, each.field.text)]
    }),
  )
  const compute = Object.fromEntries(of('expression').map((each) => [each.property, each.expression]))
  const isRemoval = action.value === 'remove'
  void follow(() =>
    client.target(target.value).beginJob({
      mode,
      mapping: name.value,
      ...(where.value === '' ? {} : { where: where.value }),
      ...(isEveryRow.value ? { everyRow: true } : {}),
      ...(isRemoval ? { remove: true } : {}),
      ...(!isRemoval && Object.keys(values).length > 0 ? { values } : {}),
      ...(!isRemoval && Object.keys(compute).length > 0 ? { compute } : {}),
      images: images.value,
      ...(note.value === '' ? {} : { note: note.value }),
      ...(mode === 'commit' && rehearsal.value !== null ? { rehearsal: rehearsal.value } : {}),
    }),
  )
}
</script>

<template>
  <v-container fluid class="pa-4">
    <div class="d-flex align-center ga-2 mb-3">
      <v-btn
        :to="{ name: 'records', params: { target, mapping: name }, query: where === '' ? {} : { where } }"
        size="small"
        data-test="back"
        >{{ name }}</v-btn
      >
      <h1 class="ml-2">{{ where === '' ? `All of ${name}` : `All of ${name} that match` }}</h1>
      <code v-if="where !== ''" class="ml-2">{{ where }}</code>
    </div>
    <ProblemAlert :problem="loadProblem" class="mb-3" />
    <v-row v-if="mapping">
      <v-col cols="12" md="5">
        <v-card>
          <v-card-text>
            <v-btn-toggle v-model="action" density="compact" mandatory variant="outlined" divided class="mb-4">
              <v-btn value="change" size="small">Change them</v-btn>
              <v-btn value="remove" size="small" data-test="remove">Remove them</v-btn>
            </v-btn-toggle>
            <template v-if="action === 'change'">
              <div v-for="(assignment, at) in assignments" :key="at" class="mb-3" data-test="assignment">
                <div class="d-flex align-center ga-2 mb-2">
                  <v-select
                    :model-value="assignment.property"
                    :items="choicesFor(assignment)"
                    label="Property"
                    hide-details
                    data-test="assigned"
                    @update:model-value="(property: string) => choose(assignment, property)"
                  />
                  <v-select
                    v-model="assignment.by"
                    :items="[
                      { title: 'expression', value: 'expression' },
                      { title: 'value', value: 'value' },
                    ]"
                    label="New value by"
                    hide-details
                    style="max-width: 175px"
                    data-test="by"
                  />
                  <v-btn
                    :icon="mdiClose"
                    variant="text"
                    size="small"
                    aria-label="Leave this property"
                    @click="assignments.splice(at, 1)"
                  />
                </div>
                <v-text-field
                  v-if="assignment.by === 'expression'"
                  v-model="assignment.expression"
                  class="mono"
                  :label="`New ${assignment.property}, from the row's own values`"
                  :placeholder="exampleFor(assignment)"
                  hide-details="auto"
                  data-test="expression"
                />
                <PropertyField
                  v-else-if="infoOf(assignment)"
                  v-model="assignment.field"
                  :property="infoOf(assignment)!"
                  :loaded="null"
                  :is-edited="false"
                  :error="errors[at]"
                />
              </div>
              <v-btn
                :prepend-icon="mdiPlus"
                size="small"
                :disabled="assignments.length >= properties.length"
                data-test="add-property"
                @click="add"
                >Another property</v-btn
              >
            </template>
            <v-alert v-else type="warning" variant="tonal" density="compact">
              The records are removed; their images in the book say what they were.
            </v-alert>
            <v-checkbox
              v-if="where === '' || leavesNoneOut || isEveryRow"
              v-model="isEveryRow"
              :label="`${where === '' ? 'There is no filter' : 'The filter leaves none out'}: every ${name} is meant (everyRow)`"
              hide-details
              class="mt-2"
              data-test="every-row"
            />
            <div class="d-flex align-start ga-2 mt-4">
              <v-select
                v-model="images"
                :items="[...IMAGES]"
                label="Images in the book"
                hint="none cannot be put back"
                persistent-hint
                style="max-width: 190px"
              />
              <v-text-field v-model="note" label="Note" hide-details />
            </div>
          </v-card-text>
          <JobActions
            :can-rehearse="canRehearse"
            :can-commit="canCommit"
            :is-rehearsed="rehearsal !== null"
            @begin="begin"
          />
        </v-card>
      </v-col>
      <v-col cols="12" md="7">
        <ProblemAlert :problem="problem" class="mb-3" />
        <JobCard v-if="job" :job="job" @cancel="cancel" @resume="follow(() => client.resumeJob(job!.id))" />
        <p v-else-if="!problem" class="text-medium-emphasis">
          Rehearse it to see how many records match, and what would change in them. Nothing is kept until you commit.
        </p>
      </v-col>
    </v-row>
  </v-container>
</template>
