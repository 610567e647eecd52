<script setup lang="ts">
import { BAlert, BButton, BFormGroup, BFormInput, BFormSelect } from 'bootstrap-vue-next'
import { computed, onMounted, ref } from 'vue'
import { get, list, post, remove } from '../api/client'
import type { Destination, EnrolmentCode, IssuedCode, Page, Workstation } from '../api/types'
import { useForm } from '../composables/useForm'
import { useLoad } from '../composables/useLoad'
import { moment } from '../logic/format'
import ProblemAlert from './ProblemAlert.vue'
import StateWord from './StateWord.vue'

defineProps<{ mayChange: boolean }>()
const { data, problem, reload } = useLoad(async () => {
  const [codes, destinations, workstations] = await Promise.all([
    get<Page<EnrolmentCode>>('/enrolment-codes?most=50'),
    list<Destination>('/destinations'),
    list<Workstation>('/workstations'),
  ])
  return { codes: codes.items, destinations: destinations.map((d) => d.name), workstations }
})
const login = ref('')
const destination = ref<string | null>(null)
const claims = ref<string | null>(null)
const issued = ref<IssuedCode>()

const claimable = computed(() => {
  const own = data.value?.workstations.filter((w) => w.login.toLowerCase() === login.value.trim().toLowerCase()) ?? []
  return [{ value: null, text: 'nothing: a new workstation' }, ...own.map((w) => ({ value: w.name, text: `the backups of ${w.name}` }))]
})

const making = useForm(async () => {
  issued.value = await post<IssuedCode>('/enrolment-codes', { login: login.value, destination: claims.value ? null : destination.value, claims: claims.value })
  login.value = ''
  claims.value = null
  await reload()
})

async function cancel(code: EnrolmentCode) {
  await remove(`/enrolment-codes/${code.id}`)
  await reload()
}

onMounted(reload)
</script>

<template>
  <section class="mb-4" aria-labelledby="codes">
    <h2 id="codes">Enrolment codes</h2>
    <ProblemAlert :problem="problem" retry @retry="reload" />
    <BAlert v-if="issued" :model-value="true" variant="success">
      <p class="mb-1">For a machine of <strong>{{ issued.record.login }}</strong>, once, until {{ moment(issued.record.expires) }}. It is shown only now:</p>
      <p class="jf-code mb-1">{{ issued.code }}</p>
      <p v-if="issued.record.claims" class="mb-1">It hands over the backups of {{ issued.record.claims }}; a machine that has them now is cut off then.</p>
      <p class="mb-0">On that machine: <code>jetfrost join CODE</code></p>
    </BAlert>
    <form v-if="mayChange" class="jf-panel mb-3" @submit.prevent="making.submit">
      <ProblemAlert :problem="making.problem.value" />
      <div class="row g-3">
        <BFormGroup label="For the machine of (login name)" label-for="code-login" class="col-4"><BFormInput id="code-login" v-model="login" required autocomplete="off" /></BFormGroup>
        <BFormGroup label="Destination" label-for="code-destination" class="col-4">
          <BFormSelect id="code-destination" v-model="destination" :disabled="claims != null" :options="[{ value: null, text: 'the only one that is open to it' }, ...(data?.destinations ?? [])]" />
        </BFormGroup>
        <BFormGroup label="Hands over" label-for="code-claims" class="col-4">
          <BFormSelect id="code-claims" v-model="claims" :options="claimable" />
        </BFormGroup>
      </div>
      <BButton type="submit" variant="primary" class="mt-3" :disabled="making.busy.value">Make a code</BButton>
    </form>
    <div class="jf-panel table-responsive">
      <table v-if="data?.codes.length" class="table align-middle">
        <thead>
          <tr>
            <th scope="col">For</th>
            <th scope="col">Destination</th>
            <th scope="col">State</th>
            <th scope="col">Ends</th>
            <th scope="col">Workstation</th>
            <th scope="col"><span class="visually-hidden">Actions</span></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="c in data.codes" :key="c.id">
            <td>{{ c.login }}</td>
            <td>{{ c.destination }}</td>
            <td><StateWord :state="c.state" /></td>
            <td>{{ moment(c.expires) }}</td>
            <td>{{ c.workstation ?? '–' }}</td>
            <td><BButton v-if="mayChange && c.state === 'open'" size="sm" variant="outline-secondary" @click="cancel(c)">Cancel the code for {{ c.login }}</BButton></td>
          </tr>
        </tbody>
      </table>
      <p v-else class="mb-0">No code was made yet. A code turns one machine into a workstation.</p>
    </div>
  </section>
</template>
