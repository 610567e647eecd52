<script setup lang="ts">
import { BButton, BFormGroup, BFormInput, BFormSelect } from 'bootstrap-vue-next'
import { computed, onMounted, ref } from 'vue'
import { answer, api, at } from '../api/client'
import type { IssuedToken, PasswordSet, SecondFactorOffer, TokenScope } from '../api/types'
import ProblemAlert from '../components/ProblemAlert.vue'
import { useForm } from '../composables/useForm'
import { useLoad } from '../composables/useLoad'
import { useSession } from '../composables/useSession'
import { many, moment } from '../logic/format'
import RuledInput from '../components/RuledInput.vue'

/** Oneself: password, second factor, sessions and tokens. */
const { account, refresh } = useSession()
const sessions = useLoad(() => answer(api.GET('/api/v1/sessions')))
const old = ref('')
const fresh = ref('')
const passwordSet = ref<PasswordSet>()
const offer = ref<SecondFactorOffer>()
const code = ref('')
const spare = ref<string[]>()
const ending = ref(false)
const password = ref('')
const label = ref('')
const scope = ref<TokenScope>('see')
const days = ref<string | number>(90)
const tokenPassword = ref('')
const issued = ref<IssuedToken>()
const SCOPES = [
  { value: 'see', text: 'sees what I see, changes nothing' },
  { value: 'all', text: 'all that I may' },
]
const FACTOR = '/api/v1/sessions/current/second-factor'
const picture = computed(() => (offer.value ? `data:image/svg+xml,${encodeURIComponent(offer.value.picture)}` : ''))

const setting = useForm(async () => {
  passwordSet.value = await answer(api.PUT('/api/v1/sessions/current/password', { body: { old: old.value, new: fresh.value } }))
  old.value = fresh.value = ''
  await sessions.reload()
})
const offering = useForm(async () => {
  offer.value = await answer(api.POST(FACTOR))
})
const confirming = useForm(async () => {
  spare.value = (await answer(api.PUT(FACTOR, { body: { code: code.value, password: password.value } }))).codes
  offer.value = undefined
  code.value = password.value = ''
  await refresh()
})
const unfactoring = useForm(async () => {
  await answer(api.POST(`${FACTOR}/end`, { body: { password: password.value } }))
  password.value = ''
  ending.value = false
  spare.value = undefined
  await refresh()
})
const making = useForm(async () => {
  issued.value = await answer(
    api.POST('/api/v1/tokens', {
      body: { label: label.value, scope: scope.value, days: Math.trunc(Number(days.value)) || 1, password: tokenPassword.value },
    }),
  )
  label.value = tokenPassword.value = ''
  await sessions.reload()
})
/** The session that is to end; all others without one. */
let toEnd: string | undefined
const ended = useForm(async () => {
  await (toEnd === undefined ? answer(api.DELETE('/api/v1/sessions')) : answer(api.DELETE('/api/v1/sessions/{id}', at({ id: toEnd }))))
  await sessions.reload()
})
function end(session?: string) {
  toEnd = session
  void ended.submit()
}
const others = computed(() => sessions.data.value?.items.filter((s) => !s.current).length ?? 0)
onMounted(sessions.reload)
</script>

<template>
  <h1 class="mb-3">{{ account?.display_name }}</h1>
  <div class="row g-3 mb-4">
    <section class="col-12 col-lg-6" aria-labelledby="own-password">
      <form class="jf-panel h-100" @submit.prevent="setting.submit">
        <h2 id="own-password">Password of the account</h2>
        <ProblemAlert :problem="setting.problem.value" />
        <input type="text" class="visually-hidden" autocomplete="username" :value="account?.login" tabindex="-1" aria-hidden="true" readonly />
        <BFormGroup label="Current password" label-for="old-password" class="mb-2"><BFormInput id="old-password" v-model="old" type="password" required autocomplete="current-password" /></BFormGroup>
        <RuledInput id="fresh-password" v-model="fresh" label="New password" rule="password" column="mb-3" type="password" required autocomplete="new-password" />
        <BButton type="submit" variant="primary" :disabled="setting.busy.value">Change the password</BButton>
        <p v-if="passwordSet" role="status" class="mt-2 mb-0">It was changed; {{ many(passwordSet.signed_out, 'other session') }} ended. Your workstations go on.</p>
      </form>
    </section>
    <section class="col-12 col-lg-6" aria-labelledby="factor">
      <div class="jf-panel h-100">
        <h2 id="factor">Second factor</h2>
        <ProblemAlert :problem="offering.problem.value ?? confirming.problem.value ?? unfactoring.problem.value" />
        <template v-if="account?.second_factor">
          <p>Signing in also requires a code from your authenticator.</p>
          <div v-if="spare" role="status" class="jf-note mb-3">
            Spare codes, each good once, shown only now:
            <div class="jf-code">{{ spare.join('  ') }}</div>
          </div>
          <form v-if="ending" class="d-flex flex-wrap gap-2 align-items-end" @submit.prevent="unfactoring.submit">
            <BFormGroup label="Password of the account" label-for="factor-password"><BFormInput id="factor-password" v-model="password" type="password" required autocomplete="current-password" /></BFormGroup>
            <BButton type="submit" variant="danger">End it</BButton>
            <BButton variant="outline-secondary" @click="ending = false">Cancel</BButton>
          </form>
          <BButton v-else variant="outline-secondary" @click="ending = true">End the second factor…</BButton>
        </template>
        <form v-else-if="offer" @submit.prevent="confirming.submit">
          <p class="mb-2">Scan this with your authenticator, or type the secret: <span class="jf-code">{{ offer.secret }}</span></p>
          <img :src="picture" alt="The secret as a QR code" width="180" height="180" class="bg-white p-2 mb-2" />
          <div class="d-flex flex-wrap gap-2 align-items-end">
            <BFormGroup label="Password of the account" label-for="confirm-password"><BFormInput id="confirm-password" v-model="password" type="password" required autocomplete="current-password" /></BFormGroup>
            <BFormGroup label="Code from the authenticator" label-for="factor-code"><BFormInput id="factor-code" v-model="code" required inputmode="numeric" autocomplete="one-time-code" /></BFormGroup>
            <BButton type="submit" variant="primary" :disabled="confirming.busy.value">Confirm</BButton>
          </div>
        </form>
        <template v-else>
          <p>Signing in requires only the password. Administrators should add a second factor.</p>
          <BButton variant="primary" :disabled="offering.busy.value" @click="offering.submit">Add a second factor</BButton>
        </template>
      </div>
    </section>
  </div>
  <section class="mb-4" aria-labelledby="sessions">
    <h2 id="sessions">Sessions and tokens</h2>
    <ProblemAlert :problem="sessions.problem.value ?? ended.problem.value" retry @retry="sessions.reload" />
    <div class="jf-panel table-responsive mb-3">
      <table class="table table-sm align-middle mb-0">
        <thead>
          <tr>
            <th scope="col">What</th>
            <th scope="col">Kind</th>
            <th scope="col">May</th>
            <th scope="col">From</th>
            <th scope="col">Last used</th>
            <th scope="col">Ends</th>
            <th scope="col"><span class="visually-hidden">Actions</span></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="s in sessions.data.value?.items" :key="s.id">
            <th scope="row">{{ s.label || 'unnamed' }}{{ s.current ? ' (this one)' : '' }}</th>
            <td>{{ s.carry === 'cookie' ? 'browser' : 'token' }}</td>
            <td>{{ s.scope === 'see' ? 'see' : 'all' }}</td>
            <td>{{ s.from || '–' }}</td>
            <td>{{ moment(s.last_used) }}</td>
            <td>{{ moment(s.expires) }}</td>
            <td class="text-end"><BButton v-if="!s.current" size="sm" variant="outline-secondary" :aria-label="`End ${s.label || 'unnamed'} from ${moment(s.created)}`" @click="end(s.id)">End</BButton></td>
          </tr>
        </tbody>
      </table>
    </div>
    <BButton v-if="others" variant="outline-secondary" class="mb-3" @click="end()">Sign out everywhere else</BButton>
    <form class="jf-panel" @submit.prevent="making.submit">
      <h2>A token for a program</h2>
      <ProblemAlert :problem="making.problem.value" />
      <div class="d-flex flex-wrap gap-3 align-items-end">
        <RuledInput id="token-label" v-model="label" label="What it is for" rule="name" required />
        <BFormGroup label="What it may do" label-for="token-scope"><BFormSelect id="token-scope" v-model="scope" :options="SCOPES" /></BFormGroup>
        <RuledInput id="token-days" v-model="days" label="Days" rule="token-days" type="number" required />
        <BFormGroup label="Password of the account" label-for="token-password"><BFormInput id="token-password" v-model="tokenPassword" type="password" required autocomplete="current-password" /></BFormGroup>
        <BButton type="submit" variant="outline-secondary" :disabled="making.busy.value">Make a token</BButton>
      </div>
      <p v-if="issued" role="status" class="mt-3 mb-0">{{ issued.record.label }}, shown only now: <span class="jf-code">{{ issued.token }}</span></p>
    </form>
  </section>
</template>
