<script setup lang="ts">
import { BButton, BFormCheckbox, BFormGroup, BFormSelect } from 'bootstrap-vue-next'
import { computed, onMounted, ref, watch } from 'vue'
import { answer, api, since } from '../api/client'
import type { MailSecurity, MailSettings, MailState } from '../api/types'
import { useEvents } from '../composables/useEvents'
import { useEdit } from '../composables/useEdit'
import { useForm } from '../composables/useForm'
import { useLoad } from '../composables/useLoad'
import type { Line } from '../logic/edit'
import { addresses, USUAL_PORTS } from '../logic/mail'
import { moment } from '../logic/format'
import EditAlert from './EditAlert.vue'
import ProblemAlert from './ProblemAlert.vue'
import RuledInput from './RuledInput.vue'

/** Where mail goes when something needs attention, and whether it gets there. */
defineProps<{ mayChange: boolean }>()
const { data, problem, reload } = useLoad(() => answer(api.GET('/api/v1/mail')))
useEvents((event) => void (event.what === 'office' && !changing.value && reload()), reload)

const SECURITIES: { value: MailSecurity; text: string }[] = [
  { value: 'tls', text: 'TLS' },
  { value: 'starttls', text: 'STARTTLS' },
  { value: 'none', text: 'none: a mail server on this machine' },
]
const HOURS = Array.from({ length: 24 }, (_, hour) => ({ value: hour, text: `${hour}:00` }))

const changing = ref(false)
const server = ref('')
const security = ref<MailSecurity>('tls')
const port = ref<string | number>(USUAL_PORTS.tls)
const login = ref('')
const password = ref('')
const sender = ref('')
const recipients = ref('')
const sums = ref(true)
const hour = ref(7)

function fill({ settings: now }: MailState) {
  server.value = now?.server ?? ''
  security.value = now?.security ?? 'tls'
  port.value = now?.port ?? USUAL_PORTS.tls
  login.value = now?.login ?? ''
  password.value = ''
  sender.value = now?.sender ?? ''
  recipients.value = now?.recipients.join(', ') ?? ''
  sums.value = now ? now.summary_hour != null : true
  hour.value = now?.summary_hour ?? 7
}
// A port that is as usual follows the protection; another one stays.
watch(security, (now, before) => {
  if (Number(port.value) === USUAL_PORTS[before]) port.value = USUAL_PORTS[now]
})

const mine = (): MailSettings => ({
  server: server.value.trim(),
  port: Number(port.value),
  security: security.value,
  login: login.value.trim() || null,
  sender: sender.value.trim(),
  recipients: addresses(recipients.value),
  summary_hour: sums.value ? hour.value : null,
})
const lines = (s?: MailSettings | null): Line[] => [
  ['Mail server', s ? `${s.server}:${s.port}` : ''],
  ['Connection security', SECURITIES.find((one) => one.value === s?.security)?.text ?? ''],
  ['Login name at the mail server', s?.login ?? ''],
  ['From', s?.sender ?? ''],
  ['To', s?.recipients.join(', ') ?? ''],
  ['A summary every day at', s?.summary_hour == null ? '' : `${s.summary_hour}:00`],
]
const saving = useEdit<MailState>({
  load: () => answer(api.GET('/api/v1/mail')),
  version: (state) => state.version,
  fill,
  lines: (state) => lines(state.settings),
  mine: () => lines(mine()),
  save: async (version) => {
    data.value = await answer(api.PUT('/api/v1/mail', { body: { settings: mine(), password: password.value || null }, ...since(version) }))
    changing.value = false
  },
})
function change() {
  if (data.value) saving.begin(data.value)
  changing.value = true
}
const trying = useForm(async () => {
  data.value = await answer(api.POST('/api/v1/mail/test'))
})
const ending = useForm(async () => {
  data.value = await answer(api.DELETE('/api/v1/mail'))
})
const says = computed(() => {
  const now = data.value
  if (!now?.settings) return 'Alerts are not sent by mail.'
  if (now.trouble) return `The mail server has not taken the last message${now.trouble_since ? `, since ${moment(now.trouble_since)}` : ''}: ${now.trouble}`
  const to = now.settings.recipients.join(', ')
  return now.delivered ? `Alerts go to ${to}. The mail server last accepted a message at ${moment(now.delivered)}.` : `Alerts go to ${to}; no message has been sent yet.`
})
onMounted(reload)
</script>

<template>
  <section class="jf-panel mb-4" aria-labelledby="mail">
    <h2 id="mail">Mail</h2>
    <ProblemAlert :problem="problem ?? trying.problem.value ?? ending.problem.value" retry @retry="reload" />
    <template v-if="data">
      <p class="mb-2" role="status"><strong>{{ says }}</strong></p>
      <p class="jf-quiet mb-2">Mail is sent when an alert begins and when it ends, and once a day as a summary. No mail does not mean that all is well: if the daily summary stops arriving, investigate.</p>
      <div v-if="mayChange && !changing" class="d-flex gap-2">
        <BButton variant="primary" @click="change">{{ data.settings ? 'Change' : 'Set mail up' }}</BButton>
        <template v-if="data.settings">
          <BButton variant="outline-secondary" :disabled="trying.busy.value" @click="trying.submit">{{ trying.busy.value ? 'Sending…' : 'Send a test message' }}</BButton>
          <BButton variant="outline-secondary" :disabled="ending.busy.value" @click="ending.submit">Send no more mail</BButton>
        </template>
      </div>
      <form v-if="changing" @submit.prevent="saving.submit">
        <EditAlert :problem="saving.problem.value" :differing="saving.differing.value" :busy="saving.busy.value" @mine="saving.saveMine" @theirs="saving.takeTheirs" />
        <div class="row g-3">
          <RuledInput id="mail-server" v-model="server" label="Mail server" rule="mail-server" column="col-5" required placeholder="mail.office.example" />
          <BFormGroup label="Connection security" label-for="mail-security" class="col-5"><BFormSelect id="mail-security" v-model="security" :options="SECURITIES" /></BFormGroup>
          <RuledInput id="mail-port" v-model="port" label="Port" rule="port" column="col-2" type="number" required />
          <RuledInput id="mail-login" v-model="login" label="Login name at the mail server" rule="mail-secret" description="Empty if it wants none." column="col-5" autocomplete="off" />
          <RuledInput id="mail-password" v-model="password" label="Password at the mail server" rule="mail-secret" :description="data.has_password ? 'Empty: stays, unless the connection changes.' : ''" column="col-5" type="password" autocomplete="new-password" :disabled="!login" />
          <RuledInput id="mail-sender" v-model="sender" label="From" rule="mail-address" column="col-5" required placeholder="backups@office.example" />
          <RuledInput id="mail-recipients" v-model="recipients" label="To" rule="mail-addresses" description="Separate several with commas." column="col-7" required />
        </div>
        <div class="d-flex align-items-center gap-2 mt-3">
          <BFormCheckbox v-model="sums">A summary every day at</BFormCheckbox>
          <BFormSelect v-model="hour" :options="HOURS" :disabled="!sums" aria-label="Hour of the daily summary" class="w-auto" />
        </div>
        <div class="d-flex gap-2 mt-3">
          <BButton type="submit" variant="primary" :disabled="saving.busy.value">Save</BButton>
          <BButton variant="outline-secondary" @click="changing = false">Cancel</BButton>
        </div>
      </form>
    </template>
  </section>
</template>
