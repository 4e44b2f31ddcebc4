<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { isProblem, type DefinitionKind, type Finding } from '@ledgerman/contract'
import { client } from '../client.js'
import ProblemAlert from '../problems/ProblemAlert.vue'
import CompareView from './CompareView.vue'
import YamlEditor from './YamlEditor.vue'
import { useSession } from '../session/useSession.js'

/** A definition as text: checked while it is typed, saved as a new revision, compared with an earlier one. Who may not publish reads it. */
const props = defineProps<{
  target: string
  kind: DefinitionKind
  /** Empty for one that is not published yet. */
  name: string
  source: string
  /** The latest revision; 0 where there is none. */
  revision: number
}>()
const emit = defineEmits<{ published: [name: string]; withdrawn: [] }>()
const { may } = useSession()
const text = ref(props.source)
const editor = ref<InstanceType<typeof YamlEditor>>()
const findings = ref<Finding[]>([])
const problem = ref<unknown>(null)
/** Why what stands there could not be checked. */
const checkProblem = ref<unknown>(null)
const said = ref('')
const isAsking = ref(false)
const comparedWith = ref<number | null>(null)
const earlier = ref('')
const earlierRevisions = computed(() => Array.from({ length: props.revision }, (_, at) => props.revision - at))
const isEdited = computed(() => text.value !== props.source)

watch(
  () => [props.kind, props.name, props.source],
  () => {
    text.value = props.source
    comparedWith.value = null
    problem.value = null
  },
)
watch(comparedWith, async (revision) => {
  if (revision === null) return
  const of = client.target(props.target)
  try {
    const load =
      props.kind === 'mapping' ? of.mappingRevision(props.name, revision) : of.transactionRevision(props.name, revision)
    earlier.value = (await load).source
  } catch (error) {
    comparedWith.value = null
    problem.value = error
  }
})

async function check(source: string): Promise<Finding[]> {
  try {
    checkProblem.value = null
    await client.target(props.target).publish([{ source }], { check: true })
  } catch (error) {
    if (isProblem(error, 'definition-invalid')) return (error.facts['findings'] ?? []) as Finding[]
    checkProblem.value = error
  }
  return []
}

/** The editor marks the place itself. */
function shortened(message: string): string {
  return (message.split('\n')[0] ?? '').replace(/,? at character \d+(?=[.:])/, '').replace(/:$/, '')
}

async function save() {
  problem.value = null
  said.value = ''
  try {
    const named = /^(?:mapping|transaction):\s*["']?([^\s"'#]+)/m.exec(text.value)?.[1]
    // Under its own name it follows the revision it was made from; what was published since is not overwritten.
    const revision = named === props.name ? { revision: props.revision } : {}
    const { definitions } = await client.target(props.target).publish([{ source: text.value, ...revision }])
    const [published] = definitions
    if (!published) return
    said.value =
      published.state === 'same'
        ? 'Nothing differs from the latest revision.'
        : `Saved as revision ${published.revision}.`
    emit('published', published.name)
  } catch (error) {
    problem.value = error
  }
}

async function withdraw() {
  isAsking.value = false
  problem.value = null
  try {
    const { kind, name, revision } = props
    await client.target(props.target).withdraw([{ kind, name, revision }])
    emit('withdrawn')
  } catch (error) {
    problem.value = error
  }
}
</script>

<template>
  <div>
    <div class="d-flex align-center ga-2 mb-2 flex-wrap">
      <v-btn
        v-if="may('author')"
        color="primary"
        variant="flat"
        :disabled="findings.length > 0 || (!isEdited && revision > 0)"
        data-test="save-definition"
        @click="save"
        >{{ revision === 0 ? 'Publish' : 'Save as a new revision' }}</v-btn
      >
      <v-btn v-if="isEdited && revision > 0" @click="text = source">Undo all</v-btn>
      <span v-if="findings.length > 0" class="text-error" data-test="findings"
        >{{ findings.length }} {{ findings.length === 1 ? 'error' : 'errors' }}</span
      >
      <span v-else class="text-medium-emphasis" data-test="said">{{ said }}</span>
      <v-spacer />
      <v-btn
        v-if="may('author') && revision > 0"
        variant="text"
        color="error"
        data-test="withdraw-definition"
        @click="isAsking = true"
        >Withdraw</v-btn
      >
      <v-select
        v-if="revision > 0"
        v-model="comparedWith"
        :items="earlierRevisions.map((number) => ({ title: `revision ${number}`, value: number }))"
        label="Compare with"
        clearable
        hide-details
        style="flex: none; width: 165px"
        data-test="compare-with"
      />
    </div>
    <ProblemAlert :problem="problem ?? checkProblem" class="mb-2" />
    <CompareView v-if="comparedWith !== null" :earlier="earlier" :later="text" />
    <template v-else>
      <YamlEditor
        ref="editor"
        v-model="text"
        v-bind="may('author') ? { check } : { readonly: true }"
        @checked="(found) => (findings = found)"
      />
      <ul v-if="findings.length > 0" class="findings small-note mt-2" data-test="finding-list">
        <li v-for="(finding, at) in findings" :key="at">
          <button type="button" @click="editor?.goTo(finding)">
            <span class="text-medium-emphasis">{{ finding.line ?? 1 }}:{{ finding.column ?? 1 }}</span>
            <span class="mono">{{ finding.where }}</span>
            <span>{{ shortened(finding.message) }}</span>
          </button>
        </li>
      </ul>
    </template>
    <v-dialog v-model="isAsking" max-width="440">
      <v-card :title="`Withdraw the ${kind} ${name}?`" data-test="ask-withdraw">
        <v-card-text
          >Nobody can use it any more. Its revisions stay readable, and so do entries made with it.</v-card-text
        >
        <v-card-actions>
          <v-spacer />
          <v-btn autofocus @click="isAsking = false">Keep it</v-btn>
          <v-btn color="error" variant="flat" data-test="confirm-withdraw" @click="withdraw">Withdraw</v-btn>
        </v-card-actions>
      </v-card>
    </v-dialog>
  </div>
</template>

<style scoped>
.findings {
  list-style: none;
  padding: 0;
  max-height: 120px;
  overflow: auto;
}
.findings button {
  display: flex;
  gap: 8px;
  border: 0;
  background: none;
  color: inherit;
  font: inherit;
  cursor: pointer;
  width: 100%;
  padding: 2px 4px;
  text-align: left;
}
.findings button:hover,
.findings button:focus-visible {
  background: rgba(var(--v-theme-primary), 0.1);
}
</style>
