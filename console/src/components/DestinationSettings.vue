<script setup lang="ts">
import { BButton, BFormGroup, BFormSelect } from 'bootstrap-vue-next'
import { computed, ref, useId } from 'vue'
import { answer, api, at, since } from '../api/client'
import type { AtLimit, Destination, EncryptionPolicy, Retention } from '../api/types'
import { useEdit } from '../composables/useEdit'
import type { Line } from '../logic/edit'
import { exactSize, many, parseSize } from '../logic/format'
import { retentionText } from '../logic/retention'
import CapacityAdvice from './CapacityAdvice.vue'
import RetentionFields from './RetentionFields.vue'
import EditAlert from './EditAlert.vue'
import RuledInput from './RuledInput.vue'
import ScheduleForm from './ScheduleForm.vue'

/** A destination's limits, its retention, and what happens at a limit. */
const props = defineProps<{ destination: Destination; mayChange: boolean }>()
const emit = defineEmits<{ changed: [] }>()

const id = useId()
const changing = ref(false)
const scheduling = ref(false)
const name = ref('')
const description = ref('')
const defaultLimit = ref('')
const capacity = ref('')
const reserve = ref('')
const protectedDays = ref<string | number>(30)
const waiting = ref<string | number>(7)
const scrub = ref<string | number>(30)
const atLimit = ref<AtLimit>('stop')
const encryption = ref<EncryptionPolicy>('required')
const retention = ref<Retention>({ kind: 'everything' })
const capacityBytes = computed(() => (capacity.value.trim() === '' ? null : parseSize(capacity.value)))
const defaultBytes = computed(() => (defaultLimit.value.trim() === '' ? null : parseSize(defaultLimit.value)))
const reserveBytes = computed(() => parseSize(reserve.value))
const AT_LIMIT: { value: AtLimit; text: string }[] = [
  { value: 'stop', text: 'backups stop and say so' },
  { value: 'expire_oldest', text: 'a workstation’s oldest points expire, once their protected time is over' },
]

const ENCRYPTION: { value: EncryptionPolicy; text: string }[] = [
  { value: 'required', text: 'image stores must be encrypted' },
  { value: 'optional', text: 'a workstation may go without, if its code says so' },
]

function fill(d: Destination) {
  name.value = d.name
  description.value = d.description
  defaultLimit.value = d.default_limit == null ? '' : exactSize(d.default_limit)
  capacity.value = d.capacity == null ? '' : exactSize(d.capacity)
  reserve.value = exactSize(d.reserve)
  protectedDays.value = d.protected_days
  waiting.value = d.waiting_days
  scrub.value = d.scrub_days
  atLimit.value = d.at_limit
  encryption.value = d.encryption
  retention.value = d.retention
}

const whole = (days: string | number) => Math.trunc(Number(days)) || 0
const mine = () => ({
  name: name.value,
  description: description.value,
  capacity: capacityBytes.value,
  reserve: reserveBytes.value,
  default_limit: defaultBytes.value,
  retention: retention.value,
  at_limit: atLimit.value,
  encryption: encryption.value,
  protected_days: whole(protectedDays.value),
  waiting_days: whole(waiting.value),
  scrub_days: whole(scrub.value),
})
type Sizes = 'capacity' | 'reserve' | 'default_limit'
const sized = (bytes?: number | null) => (bytes == null ? '' : exactSize(bytes))
const lines = (d: Omit<ReturnType<typeof mine>, Sizes> & { [size in Sizes]?: number | null }): Line[] => [
  ['Name', d.name],
  ['What it is for', d.description],
  ['Capacity', sized(d.capacity)],
  ['Reserve', sized(d.reserve)],
  ['Limit of new stores', sized(d.default_limit)],
  ['Retention', retentionText(d.retention)],
  ['At a limit', AT_LIMIT.find((a) => a.value === d.at_limit)?.text ?? ''],
  ['Encryption', ENCRYPTION.find((e) => e.value === d.encryption)?.text ?? ''],
  ['Protected time', many(d.protected_days, 'day')],
  ['Waiting time', many(d.waiting_days, 'day')],
  ['Scrub every', many(d.scrub_days, 'day')],
]
const here = at({ id: props.destination.id })
const saving = useEdit<Destination>({
  load: () => answer(api.GET('/api/v1/destinations/{id}', here)),
  version: (d) => d.version,
  fill,
  lines,
  mine: () => lines(mine()),
  save: async (version) => {
    await answer(api.PATCH('/api/v1/destinations/{id}', { ...here, body: mine(), ...since(version) }))
    changing.value = false
    emit('changed')
  },
})
function change() {
  saving.begin(props.destination)
  changing.value = true
}
</script>

<template>
  <div class="mt-2">
    <p class="mb-2">
      Retention: <strong>{{ retentionText(destination.retention) }}</strong>. At a limit, {{ AT_LIMIT.find((a) => a.value === destination.at_limit)?.text }}.
      {{ destination.protected_days ? `No point expires in the first ${destination.protected_days} days.` : 'There is no protected time: a rule or a limit may expire a point at any age.' }}
      What is removed can be undeleted for {{ destination.waiting_days }} days.
      {{ destination.encryption === 'required' ? 'Image stores on it must be encrypted.' : 'Image stores on it may go without encryption.' }}
      {{ destination.scrub_days ? `Every stored byte is read and compared every ${destination.scrub_days} days.` : 'Stored bytes are read and compared only when asked for.' }}
    </p>
    <div v-if="mayChange && !changing && !scheduling" class="d-flex flex-wrap gap-2">
      <BButton size="sm" variant="outline-secondary" :aria-label="`Change ${destination.name}`" @click="change">Change</BButton>
      <BButton size="sm" variant="outline-secondary" :aria-label="`Schedule of ${destination.name}`" @click="scheduling = true">Schedule</BButton>
      <slot />
    </div>
    <ScheduleForm v-if="scheduling" :subject="destination.id" of="destinations" :name="destination.name" @changed="scheduling = false" @cancel="scheduling = false" />
    <form v-if="changing" @submit.prevent="saving.submit">
      <EditAlert :problem="saving.problem.value" :differing="saving.differing.value" :busy="saving.busy.value" @mine="saving.saveMine" @theirs="saving.takeTheirs" />
      <div class="row g-3">
        <RuledInput :id="`${id}-name`" v-model="name" label="Name" rule="destination-name" :until-now="destination.name" column="col-4" required />
        <RuledInput :id="`${id}-description`" v-model="description" label="What it is for" rule="description" column="col-8" />
        <RuledInput :id="`${id}-capacity`" v-model="capacity" label="Capacity" rule="size" description="Empty for no limit." column="col-4" />
        <RuledInput :id="`${id}-reserve`" v-model="reserve" label="Reserve" rule="size" description="Kept free on the volume." column="col-4" required />
        <RuledInput :id="`${id}-default`" v-model="defaultLimit" label="Limit of new stores" rule="size" description="Empty for none." column="col-4" />
        <RuledInput
          :id="`${id}-protected`"
          v-model="protectedDays"
          label="Protected time"
          rule="days"
          description="Days in which no point expires. A shorter time applies to new points only."
          column="col-4"
          type="number"
          required
        />
        <RuledInput :id="`${id}-waiting`" v-model="waiting" label="Waiting time" rule="days" description="Days." column="col-4" type="number" required />
        <RuledInput :id="`${id}-scrub`" v-model="scrub" label="Scrub every" rule="days" description="Days; 0 to scrub only on request." column="col-4" type="number" required />
        <BFormGroup label="Encryption" :label-for="`${id}-encryption`" class="col-4">
          <BFormSelect :id="`${id}-encryption`" v-model="encryption" :options="ENCRYPTION" />
        </BFormGroup>
        <BFormGroup label="At a limit" :label-for="`${id}-at-limit`" class="col-12">
          <BFormSelect :id="`${id}-at-limit`" v-model="atLimit" :options="AT_LIMIT" />
        </BFormGroup>
      </div>
      <CapacityAdvice :destination="destination.id" :capacity="capacityBytes" :reserve="reserveBytes" :default-limit="defaultBytes" />
      <RetentionFields v-model="retention" class="mt-3" />
      <div class="mt-3 d-flex gap-2">
        <BButton type="submit" variant="primary" :disabled="saving.busy.value || capacityBytes === undefined || reserveBytes === undefined || defaultBytes === undefined">Save</BButton>
        <BButton variant="outline-secondary" @click="changing = false">Cancel</BButton>
      </div>
    </form>
  </div>
</template>
