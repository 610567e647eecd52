<script setup lang="ts">
import { BButton, BFormCheckbox } from 'bootstrap-vue-next'
import { computed, ref } from 'vue'
import { answer, api, at, since } from '../api/client'
import type { Job, Proof, Retention, ThinningPreview, Workstation } from '../api/types'
import { useEdit } from '../composables/useEdit'
import { useForm } from '../composables/useForm'
import type { Line } from '../logic/edit'
import { exactSize, many, moment, parseSize, size } from '../logic/format'
import { retentionText } from '../logic/retention'
import EditAlert from './EditAlert.vue'
import RetentionFields from './RetentionFields.vue'
import LimitAdvice from './LimitAdvice.vue'
import ProblemAlert from './ProblemAlert.vue'
import RemoveNowForm from './RemoveNowForm.vue'
import RuledInput from './RuledInput.vue'

/** The retention of a workstation: limit, rule, hold, removal, and what the next thinning would do. */
const props = defineProps<{ workstation: Workstation; mayChange: boolean }>()
const emit = defineEmits<{ changed: [] }>()

const store = computed(() => props.workstation.store)
const here = computed(() => at({ id: store.value.id }))
const preview = ref<ThinningPreview>()
const started = ref<Job>()
const going = computed(() => preview.value?.points.filter((fate) => fate.stays == null).map((fate) => fate.point.sequence) ?? [])

const changing = ref(false)
const limit = ref('')
const asDestination = ref(true)
const retention = ref<Retention>({ kind: 'everything' })
const limitBytes = computed(() => (limit.value.trim() === '' ? null : parseSize(limit.value)))

const mine = () => ({ limit: limitBytes.value, retention_is_own: !asDestination.value, retention: retention.value })
const lines = (s: ReturnType<typeof mine>): Line[] => [
  ['Limit', s.limit == null ? '' : exactSize(s.limit)],
  ['Retention', s.retention_is_own ? retentionText(s.retention) : `as ${store.value.destination_name}`],
]
const saving = useEdit<Workstation>({
  load: () => answer(api.GET('/api/v1/workstations/{id}', at({ id: props.workstation.id }))),
  version: (w) => w.store.version,
  fill: ({ store }) => {
    limit.value = store.limit == null ? '' : exactSize(store.limit)
    asDestination.value = !store.retention_is_own
    retention.value = store.retention
  },
  lines: (w) => lines({ ...w.store, limit: w.store.limit ?? null }),
  mine: () => lines(mine()),
  save: async (version) => {
    const body = { limit: limitBytes.value, retention: asDestination.value ? null : retention.value }
    await answer(api.PUT('/api/v1/stores/{id}/settings', { ...here.value, body, ...since(version) }))
    changing.value = false
    preview.value = undefined
    emit('changed')
  },
})
function change() {
  saving.begin(props.workstation)
  changing.value = true
}
const looking = useForm(async () => {
  started.value = undefined
  preview.value = await answer(api.GET('/api/v1/stores/{id}/thinning', here.value))
})
const thinning = useForm(async () => {
  started.value = await answer(api.POST('/api/v1/stores/{id}/thinning', here.value))
  preview.value = undefined
})
const removing = ref(false)
function removedNow() {
  removing.value = false
  emit('changed')
}
const removeNow = (body: Proof) => answer(api.POST('/api/v1/stores/{id}/removal/now', { ...here.value, body }))
const restoring = useForm(async () => {
  await (store.value.pending_removal ? answer(api.DELETE('/api/v1/stores/{id}/removal', here.value)) : answer(api.DELETE('/api/v1/stores/{id}/hold', here.value)))
  emit('changed')
})
</script>

<template>
  <section class="jf-panel mb-3" aria-labelledby="retention">
    <h2 id="retention">Retention</h2>
    <ProblemAlert :problem="looking.problem.value ?? thinning.problem.value ?? restoring.problem.value" />
    <p v-if="store.pending_removal" class="jf-note">
      Removed by {{ store.pending_removal.by }}: this workstation and its image store go for good on {{ moment(store.pending_removal.ends) }}.
      <BButton v-if="mayChange" size="sm" variant="primary" class="ms-2" @click="restoring.submit">Bring it back</BButton>
      <BButton v-if="mayChange && !removing" size="sm" variant="outline-secondary" class="ms-2" @click="removing = true">Remove it now…</BButton>
    </p>
    <RemoveNowForm v-if="store.pending_removal && removing" id="store" class="mb-3" :remove="removeNow" :what="workstation.name" @done="removedNow" @cancel="removing = false" />
    <p v-if="!store.pending_removal && store.hold" class="jf-note">
      Held by {{ store.hold.by }}: {{ store.hold.reason }}. Nothing of it expires or is removed.
      <BButton v-if="mayChange" size="sm" variant="outline-secondary" class="ms-2" @click="restoring.submit">Take the hold off</BButton>
    </p>
    <p class="mb-2">
      {{ store.limit == null ? 'No limit of its own' : `At most ${size(store.limit)}` }}; retention <strong>{{ retentionText(store.retention) }}</strong>
      <span class="jf-quiet"> ({{ store.retention_is_own ? 'set for this workstation' : `as ${store.destination_name}` }})</span>
    </p>

    <form v-if="changing" class="mb-3" @submit.prevent="saving.submit">
      <EditAlert :problem="saving.problem.value" :differing="saving.differing.value" :busy="saving.busy.value" @mine="saving.saveMine" @theirs="saving.takeTheirs" />
      <RuledInput id="store-limit" v-model="limit" label="Limit" rule="size" description="Such as 200GB; empty for no limit of its own." column="col-4" described-by="limit-advice" />
      <LimitAdvice id="limit-advice" :workstation="workstation.id" :limit="limitBytes" />
      <BFormCheckbox v-model="asDestination" class="my-2">Same retention as {{ store.destination_name }}</BFormCheckbox>
      <RetentionFields v-if="!asDestination" v-model="retention" />
      <div class="mt-3 d-flex gap-2">
        <BButton type="submit" variant="primary" :disabled="saving.busy.value || limitBytes === undefined">Save</BButton>
        <BButton variant="outline-secondary" @click="changing = false">Cancel</BButton>
      </div>
    </form>
    <div v-else class="d-flex gap-2">
      <BButton v-if="mayChange" size="sm" variant="outline-secondary" @click="change">Change</BButton>
      <BButton size="sm" variant="outline-secondary" :disabled="looking.busy.value" @click="looking.submit">What would expire next?</BButton>
    </div>

    <p v-if="preview" role="status" class="mt-3 mb-0">
      <template v-if="preview.keeps_earlier_promises">The terms were changed: earlier points stay as long as they were promised. </template>
      <template v-if="going.length">
        {{ many(going.length, 'point') }} would expire (number {{ going.join(', ') }}), which frees {{ size(preview.freed_bytes) }}. What other points need stays.
        <BButton v-if="mayChange" size="sm" variant="primary" class="ms-2" :disabled="thinning.busy.value" @click="thinning.submit">Remove them now</BButton>
      </template>
      <template v-else>Nothing would expire: every point stays for its protected time, by the rule, by a hold, or as the latest.</template>
    </p>
    <p v-if="started" role="status" class="mt-3 mb-0">The thinning was started; Activity shows its progress.</p>
  </section>
</template>
