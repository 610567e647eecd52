<script setup lang="ts">
import { BButton, BFormCheckboxGroup, BFormGroup, BFormInput, BFormSelect } from 'bootstrap-vue-next'
import { computed, onMounted, ref, watch } from 'vue'
import { answer, api, at, since } from '../api/client'
import type { Account, AccountKind, WorkstationsGo, PasswordSet, Role } from '../api/types'
import { useEdit } from '../composables/useEdit'
import { useForm } from '../composables/useForm'
import { useLoad } from '../composables/useLoad'
import { exactSize, many, moment, parseSize, size } from '../logic/format'
import type { Line } from '../logic/edit'
import { KINDS, ROLES } from '../logic/people'
import EditAlert from './EditAlert.vue'
import ProblemAlert from './ProblemAlert.vue'
import RuledInput from './RuledInput.vue'

/** One account: what it is, what hangs on it, and what can be done to it. */
const props = defineProps<{ account: Account; accounts: Account[]; groups: string[]; isOwn: boolean }>()
const emit = defineEmits<{ changed: [] }>()

const here = at({ id: props.account.id })
const ties = useLoad(() => answer(api.GET('/api/v1/accounts/{id}/ties', here)))
const login = ref('')
const name = ref('')
const kind = ref<AccountKind>('person')
const role = ref<Role>('member')
const inGroups = ref<string[]>([])
const quota = ref('')
const quotaBytes = computed(() => (quota.value.trim() === '' ? null : parseSize(quota.value)))
const password = ref('')
const set = ref<PasswordSet>()
const asking = ref(false)
const fate = ref<'to' | 'retire' | 'remove'>()
const heir = ref<string>()
const typed = ref('')
const stations = computed(() => ties.data.value?.workstations ?? [])
const FATES = [
  { value: 'to', text: 'another account takes them, and they go on' },
  { value: 'retire', text: 'their machines are cut off, their backups stay' },
  { value: 'remove', text: 'their backups are removed, after the waiting time' },
]
const heirs = computed(() => props.accounts.filter((a) => a.id !== props.account.id).map((a) => a.login))

function form(send: () => Promise<unknown>) {
  return useForm(async () => {
    await send()
    emit('changed')
    await ties.reload()
  })
}
const mine = () => ({ login: login.value, display_name: name.value, kind: kind.value, role: role.value, groups: inGroups.value, quota: quotaBytes.value })
const lines = (a: Pick<Account, 'login' | 'display_name' | 'kind' | 'role' | 'groups' | 'quota'>): Line[] => [
  ['Login name', a.login],
  ['Name', a.display_name],
  ['Kind', KINDS.find((k) => k.value === a.kind)?.text ?? ''],
  ['Role', ROLES.find((r) => r.value === a.role)?.text ?? ''],
  ['Groups', [...a.groups].sort().join(', ')],
  ['Quota', a.quota == null ? '' : exactSize(a.quota)],
]
const saving = useEdit<Account>({
  load: () => answer(api.GET('/api/v1/accounts/{id}', here)),
  version: (a) => a.version,
  fill: (a) => {
    login.value = a.login
    name.value = a.display_name
    kind.value = a.kind
    role.value = a.role
    inGroups.value = [...a.groups]
    quota.value = a.quota == null ? '' : exactSize(a.quota)
  },
  lines,
  mine: () => lines(mine()),
  save: async (version) => {
    saving.begin(await answer(api.PATCH('/api/v1/accounts/{id}', { ...here, body: mine(), ...since(version) })))
    emit('changed')
    await ties.reload()
  },
})
watch(() => props.account, saving.refresh, { immediate: true })
const setting = form(async () => {
  set.value = await answer(api.PUT('/api/v1/accounts/{id}/password', { ...here, body: { password: password.value } }))
  password.value = ''
})
const disabling = form(() => (props.account.state === 'disabled' ? answer(api.DELETE('/api/v1/accounts/{id}/disabled', here)) : answer(api.PUT('/api/v1/accounts/{id}/disabled', here))))
const unfactoring = form(() => answer(api.DELETE('/api/v1/accounts/{id}/second-factor', here)))
const removing = useForm(async () => {
  const workstations: WorkstationsGo | undefined = fate.value === 'to' ? { what: 'to', login: heir.value ?? '' } : fate.value && { what: fate.value }
  await answer(api.POST('/api/v1/accounts/{id}/removal', { ...here, body: { workstations } }))
  emit('changed')
})
const problem = computed(() => [ties, setting, disabling, unfactoring, removing].map((f) => f.problem.value).find(Boolean))
onMounted(ties.reload)
</script>

<template>
  <div class="py-2">
    <ProblemAlert :problem="problem" />
    <EditAlert :problem="saving.problem.value" :differing="saving.differing.value" :busy="saving.busy.value" @mine="saving.saveMine" @theirs="saving.takeTheirs" />
    <form class="row g-3 mb-3" @submit.prevent="saving.submit">
      <RuledInput id="change-login" v-model="login" label="Login name" rule="account-name" :until-now="account.login" column="col-3" required autocomplete="off" />
      <RuledInput id="change-name" v-model="name" label="Name" rule="name" :until-now="account.display_name" column="col-3" required autocomplete="off" />
      <BFormGroup label="Kind" label-for="change-kind" class="col-2"><BFormSelect id="change-kind" v-model="kind" :options="KINDS" /></BFormGroup>
      <BFormGroup label="Role" label-for="change-role" class="col-2"><BFormSelect id="change-role" v-model="role" :options="ROLES" /></BFormGroup>
      <RuledInput id="change-quota" v-model="quota" label="Quota" rule="size" description="Empty for no limit." column="col-2" />
      <fieldset v-if="groups.length" class="col-9">
        <legend class="fs-6 mb-1">Groups</legend>
        <BFormCheckboxGroup v-model="inGroups" :options="groups" />
      </fieldset>
      <div class="col-3 d-flex align-items-end"><BButton type="submit" variant="primary" :disabled="saving.busy.value || quotaBytes === undefined">Save</BButton></div>
    </form>

    <p v-if="ties.data.value" class="mb-2">
      Signed in: {{ many(ties.data.value.browsers, 'browser') }}, {{ many(ties.data.value.tokens, 'token') }} of commands. Unused enrolment codes: {{ ties.data.value.unused_codes }}.
      <template v-if="stations.length">Workstations: {{ stations.map((w) => `${w.name} (${many(w.points, 'point')}${w.bytes == null ? '' : `, ${size(w.bytes)}`})`).join(', ') }}.</template>
      <template v-if="account.disabled">Disabled since {{ moment(account.disabled) }}.</template>
    </p>
    <form class="d-flex flex-wrap gap-2 align-items-end mb-2" @submit.prevent="setting.submit">
      <RuledInput id="new-password" v-model="password" label="A new password of the account" rule="password" type="password" required autocomplete="new-password" />
      <BButton type="submit" variant="outline-secondary" :disabled="setting.busy.value">Set the password</BButton>
      <span class="jf-quiet small">All sessions with the old password end. Workstations are not affected.</span>
    </form>
    <p v-if="set" role="status" class="mb-2">
      The password was set; {{ many(set.signed_out, 'session') }} ended. {{ set.unaffected.length ? `Going on as before: ${set.unaffected.join(', ')}.` : '' }}
    </p>
    <div class="d-flex gap-2">
      <BButton size="sm" variant="outline-secondary" @click="disabling.submit">{{ account.state === 'disabled' ? 'Enable' : `Disable: nobody signs in, ${many(stations.length, 'workstation')} refused` }}</BButton>
      <BButton v-if="account.second_factor" size="sm" variant="outline-secondary" @click="unfactoring.submit">End the second factor</BButton>
      <BButton v-if="!isOwn && !asking" size="sm" variant="outline-danger" @click="asking = true">Remove…</BButton>
    </div>
    <form v-if="asking" class="mt-3" @submit.prevent="removing.submit">
      <div class="row g-3 align-items-end">
        <BFormGroup v-if="stations.length" :label="`What becomes of ${stations.map((w) => w.name).join(', ')}?`" label-for="fate" class="col-5"><BFormSelect id="fate" v-model="fate" required :options="FATES" /></BFormGroup>
        <BFormGroup v-if="fate === 'to'" label="Which account" label-for="heir" class="col-3"><BFormSelect id="heir" v-model="heir" required :options="heirs" /></BFormGroup>
        <BFormGroup :label="`Type ${account.login} to remove it`" label-for="typed-login" class="col-3"><BFormInput id="typed-login" v-model="typed" required autocomplete="off" /></BFormGroup>
        <div class="col-12 d-flex gap-2">
          <BButton type="submit" variant="danger" :disabled="typed !== account.login || removing.busy.value">Remove the account</BButton>
          <BButton variant="outline-secondary" @click="asking = false">Cancel</BButton>
        </div>
      </div>
    </form>
  </div>
</template>
