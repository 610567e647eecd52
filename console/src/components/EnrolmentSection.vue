<script setup lang="ts">
import { BAlert, BButton, BFormCheckbox, BFormGroup, BFormSelect } from 'bootstrap-vue-next'
import { computed, onMounted, ref } from 'vue'
import { answer, api, at, list, save } from '../api/client'
import type { EnrolmentCode, HandOutForm, IssuedCode, NewLimit } from '../api/types'
import { useForm } from '../composables/useForm'
import { useLoad } from '../composables/useLoad'
import { moment, parseSize } from '../logic/format'
import ProblemAlert from './ProblemAlert.vue'
import TerminalHint from './TerminalHint.vue'
import StateWord from './StateWord.vue'
import RuledInput from './RuledInput.vue'

defineProps<{ mayChange: boolean }>()
const { data, problem, reload } = useLoad(async () => {
  const [codes, destinations, workstations] = await Promise.all([
    answer(api.GET('/api/v1/enrolment-codes', { params: { query: { most: 50 } } })),
    list(() => api.GET('/api/v1/destinations')),
    list((query) => api.GET('/api/v1/workstations', { params: { query } })),
  ])
  return { codes: codes.items, destinations, workstations }
})
const login = ref('')
const destination = ref<string | null>(null)
const claims = ref<string | null>(null)
const machine = ref('')
const limit = ref('')
const encrypted = ref(true)
const issued = ref<IssuedCode>()

const claimable = computed(() => {
  const own = data.value?.workstations.filter((w) => w.login.toLowerCase() === login.value.trim().toLowerCase()) ?? []
  return [{ value: null, text: 'nothing: a new workstation' }, ...own.map((w) => ({ value: w.name, text: `the backups of ${w.name}` }))]
})

const limitBytes = computed(() => parseSize(limit.value))
const limitIsFit = computed(() => limit.value.trim() === '' || limit.value.trim() === 'none' || limitBytes.value !== undefined)
const mayGoWithout = computed(() => {
  const offered = data.value?.destinations.filter((d) => destination.value == null || d.name === destination.value) ?? []
  return claims.value == null && offered.some((d) => d.encryption === 'optional')
})

const making = useForm(async () => {
  const fresh = claims.value == null
  const said: NewLimit = limit.value.trim() === '' ? { what: 'usual' } : limitBytes.value === undefined ? { what: 'none' } : { what: 'bytes', bytes: limitBytes.value }
  const body = {
    login: login.value,
    destination: fresh ? destination.value : null,
    claims: claims.value,
    machine: fresh ? machine.value.trim() || null : null,
    limit: fresh ? said : ({ what: 'usual' } as const),
    without_encryption: mayGoWithout.value && !encrypted.value,
  }
  issued.value = await answer(api.POST('/api/v1/enrolment-codes', { body }))
  login.value = machine.value = limit.value = ''
  claims.value = null
  encrypted.value = true
  await reload()
})
const renewing = useForm(async () => {
  if (renewed) issued.value = await answer(api.POST('/api/v1/enrolment-codes/{id}/renewal', at({ id: renewed.id })))
  await reload()
})
let renewed: EnrolmentCode | undefined
function renew(code: EnrolmentCode) {
  renewed = code
  void renewing.submit()
}
let form: HandOutForm = 'html'
const handing = useForm(async () => {
  if (issued.value) await save(`hand-out.${form}`, api.POST('/api/v1/hand-outs', { body: { codes: [issued.value.code], form }, parseAs: 'blob' }))
})
function handOut(as: HandOutForm) {
  form = as
  void handing.submit()
}

let cancelled: EnrolmentCode | undefined
const cancelling = useForm(async () => {
  if (cancelled) await answer(api.DELETE('/api/v1/enrolment-codes/{id}', at({ id: cancelled.id })))
  await reload()
})
function cancel(code: EnrolmentCode) {
  cancelled = code
  void cancelling.submit()
}

onMounted(reload)
</script>

<template>
  <section class="mb-4" aria-labelledby="codes">
    <h2 id="codes">Enrolment codes</h2>
    <ProblemAlert :problem="problem" retry @retry="reload" />
    <ProblemAlert :problem="cancelling.problem.value" />
    <BAlert v-if="issued" :model-value="true" variant="success">
      <p class="mb-1">For {{ issued.record.machine ? `“${issued.record.machine}”` : 'a machine' }} of <strong>{{ issued.record.login }}</strong>, once, until {{ moment(issued.record.expires) }}. It is shown only now:</p>
      <p class="jf-code mb-1">{{ issued.code }}</p>
      <p v-if="issued.record.claims" class="mb-1">It hands over the backups of {{ issued.record.claims }}; a machine that has them now is cut off then.</p>
      <p v-if="!issued.record.encrypted" class="mb-1">Its backups need not be encrypted. If they are not, anyone with access to the destination’s disk can read them.</p>
      <TerminalHint class="mb-2" :command="`jetfrost join ${issued.code}${issued.record.encrypted ? '' : ' --without-encryption'}`" where="that machine" />
      <div class="d-flex gap-2">
        <BButton size="sm" variant="outline-secondary" :disabled="handing.busy.value" @click="handOut('pdf')">Hand-out as PDF</BButton>
        <BButton size="sm" variant="outline-secondary" :disabled="handing.busy.value" @click="handOut('html')">Hand-out as HTML</BButton>
      </div>
    </BAlert>
    <form v-if="mayChange" class="jf-panel mb-3" @submit.prevent="making.submit">
      <ProblemAlert :problem="making.problem.value ?? renewing.problem.value ?? handing.problem.value" />
      <div class="row g-3">
        <RuledInput id="code-login" v-model="login" label="For the machine of (login name)" rule="known-account" column="col-4" required autocomplete="off" />
        <BFormGroup label="Destination" label-for="code-destination" class="col-4">
          <BFormSelect id="code-destination" v-model="destination" :disabled="claims != null" :options="[{ value: null, text: 'the only one that it has access to' }, ...(data?.destinations.map((d) => d.name) ?? [])]" />
        </BFormGroup>
        <BFormGroup label="Hands over" label-for="code-claims" class="col-4">
          <BFormSelect id="code-claims" v-model="claims" :options="claimable" />
        </BFormGroup>
        <RuledInput v-if="claims == null" id="code-machine" v-model="machine" label="Name of the workstation" rule="name" description="Empty for the machine’s own name." column="col-4" autocomplete="off" />
        <RuledInput v-if="claims == null" id="code-limit" v-model="limit" label="Limit" rule="limit" description="Such as 1.5TB, or none; empty for the usual one." column="col-4" autocomplete="off" />
        <div v-if="mayGoWithout" class="col-12"><BFormCheckbox v-model="encrypted">Encrypt its backups. Otherwise anyone with access to the destination’s disk can read them</BFormCheckbox></div>
      </div>
      <BButton type="submit" variant="primary" class="mt-3" :disabled="making.busy.value || !limitIsFit">Make a code</BButton>
    </form>
    <div class="jf-panel table-responsive">
      <table v-if="data?.codes.length" class="table align-middle">
        <thead>
          <tr>
            <th scope="col">For</th>
            <th scope="col">Destination</th>
            <th scope="col">State</th>
            <th scope="col">Ends</th>
            <th scope="col">Machine</th>
            <th scope="col"><span class="visually-hidden">Actions</span></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="c in data.codes" :key="c.id">
            <td>{{ c.login }}</td>
            <td>{{ c.destination }}</td>
            <td><StateWord :state="c.state" /></td>
            <td>{{ moment(c.expires) }}</td>
            <td>{{ c.workstation ?? c.machine ?? c.claims ?? '–' }}</td>
            <td>
              <div v-if="mayChange && (c.state === 'unused' || c.state === 'expired')" class="d-flex gap-2 justify-content-end">
                <BButton size="sm" variant="outline-secondary" :aria-label="`Renew the code for ${c.machine ?? c.login}`" @click="renew(c)">Renew</BButton>
                <BButton v-if="c.state === 'unused'" size="sm" variant="outline-secondary" :aria-label="`Cancel the code for ${c.machine ?? c.login}`" @click="cancel(c)">Cancel</BButton>
              </div>
            </td>
          </tr>
        </tbody>
      </table>
      <p v-else class="mb-0">There are no codes yet. A code turns one machine into a workstation.</p>
    </div>
  </section>
</template>
