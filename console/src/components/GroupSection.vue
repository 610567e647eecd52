<script setup lang="ts">
import { BButton, BFormCheckboxGroup } from 'bootstrap-vue-next'
import { computed, ref } from 'vue'
import { answer, api, at, since } from '../api/client'
import type { Account, Group } from '../api/types'
import { useEdit } from '../composables/useEdit'
import { useForm } from '../composables/useForm'
import type { Line } from '../logic/edit'
import { exactSize, parseSize, size } from '../logic/format'
import EditAlert from './EditAlert.vue'
import ProblemAlert from './ProblemAlert.vue'
import RuledInput from './RuledInput.vue'
import ScheduleForm from './ScheduleForm.vue'

/** Groups carry access and defaults. */
const props = defineProps<{ groups: Group[]; accounts: Account[]; mayChange: boolean }>()
const emit = defineEmits<{ changed: [] }>()

const added = ref('')
const open = ref<Group>()
const scheduling = ref<Group>()
const here = () => at({ id: open.value?.id ?? '' })
const name = ref('')
const limit = ref('')
const quota = ref('')
const members = ref<string[]>([])
const bytes = (text: string) => (text.trim() === '' ? null : parseSize(text))
const limitBytes = computed(() => bytes(limit.value))
const quotaBytes = computed(() => bytes(quota.value))
const logins = computed(() => props.accounts.map((a) => ({ value: a.login, text: a.display_name })))

const shown = (bytes?: number | null) => (bytes == null ? '' : exactSize(bytes))
const mine = () => ({ name: name.value, default_limit: limitBytes.value, default_quota: quotaBytes.value, logins: members.value })
const lines = (g: Pick<Group, 'name' | 'default_limit' | 'default_quota' | 'logins'>): Line[] => [
  ['Name of the group', g.name],
  ['Limit of new stores', shown(g.default_limit)],
  ['Quota of new accounts', shown(g.default_quota)],
  ['Its accounts', [...g.logins].sort().join(', ')],
]
const adding = useForm(async () => {
  await answer(api.POST('/api/v1/groups', { body: { name: added.value } }))
  added.value = ''
  emit('changed')
})
const saving = useEdit<Group>({
  load: () => answer(api.GET('/api/v1/groups/{id}', here())),
  version: (g) => g.version,
  fill: (g) => {
    open.value = g
    name.value = g.name
    limit.value = shown(g.default_limit)
    quota.value = shown(g.default_quota)
    members.value = [...g.logins]
  },
  lines,
  mine: () => lines(mine()),
  save: async (version) => {
    await answer(api.PATCH('/api/v1/groups/{id}', { ...here(), body: mine(), ...since(version) }))
    open.value = undefined
    emit('changed')
  },
})
const removing = useForm(async () => {
  await answer(api.DELETE('/api/v1/groups/{id}', here()))
  open.value = undefined
  emit('changed')
})
</script>

<template>
  <section class="mb-4" aria-labelledby="groups">
    <h2 id="groups">Groups</h2>
    <ProblemAlert :problem="adding.problem.value ?? removing.problem.value" />
    <div class="jf-panel table-responsive mb-3">
      <p v-if="!groups.length" class="mb-0">There are no groups yet. A group sets access and limits for many accounts at once.</p>
      <table v-else class="table align-middle mb-0">
        <thead>
          <tr>
            <th scope="col">Group</th>
            <th scope="col">Accounts</th>
            <th scope="col">Backs up to</th>
            <th scope="col" class="jf-number">Limit of new stores</th>
            <th scope="col" class="jf-number">Quota of new accounts</th>
            <th v-if="mayChange" scope="col"><span class="visually-hidden">Actions</span></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="g in groups" :key="g.id">
            <th scope="row">{{ g.name }}</th>
            <td>{{ g.logins.join(', ') || 'nobody' }}</td>
            <td>{{ g.destinations.join(', ') || '–' }}</td>
            <td class="jf-number">{{ g.default_limit == null ? '–' : size(g.default_limit) }}</td>
            <td class="jf-number">{{ g.default_quota == null ? '–' : size(g.default_quota) }}</td>
            <td v-if="mayChange" class="text-end text-nowrap">
              <BButton size="sm" variant="outline-secondary" :aria-label="`Schedule of ${g.name}`" @click="scheduling = g">Schedule</BButton>
              <BButton size="sm" variant="outline-secondary" class="ms-2" :aria-label="`Change ${g.name}`" @click="saving.begin(g)">Change</BButton>
            </td>
          </tr>
        </tbody>
      </table>
    </div>
    <form v-if="open" class="jf-panel mb-3" @submit.prevent="saving.submit">
      <EditAlert :problem="saving.problem.value" :differing="saving.differing.value" :busy="saving.busy.value" @mine="saving.saveMine" @theirs="saving.takeTheirs" />
      <div class="row g-3">
        <RuledInput id="group-name" v-model="name" label="Name of the group" rule="group-name" :until-now="open.name" column="col-4" required />
        <RuledInput id="group-limit" v-model="limit" label="Limit of new stores" rule="size" description="Empty: as the destination says." column="col-4" />
        <RuledInput id="group-quota" v-model="quota" label="Quota of new accounts" rule="size" description="Empty for none." column="col-4" />
        <fieldset class="col-12">
          <legend class="fs-6 mb-1">Its accounts</legend>
          <BFormCheckboxGroup v-model="members" :options="logins" />
        </fieldset>
      </div>
      <div class="mt-3 d-flex gap-2">
        <BButton type="submit" variant="primary" :disabled="saving.busy.value || limitBytes === undefined || quotaBytes === undefined">Save group</BButton>
        <BButton variant="outline-secondary" @click="open = undefined">Cancel</BButton>
        <BButton variant="outline-danger" class="ms-auto" @click="removing.submit">Remove {{ open.name }}: its accounts stay</BButton>
      </div>
    </form>
    <div v-if="scheduling" class="jf-panel mb-3">
      <h3 class="fs-6 mb-0">Schedule of the workstations of {{ scheduling.name }}</h3>
      <ScheduleForm :key="scheduling.id" :subject="scheduling.id" of="groups" :name="scheduling.name" @changed="scheduling = undefined" @cancel="scheduling = undefined" />
    </div>
    <form v-if="mayChange" class="d-flex flex-wrap gap-2 align-items-end" @submit.prevent="adding.submit">
      <RuledInput id="new-group" v-model="added" label="A new group" rule="group-name" required autocomplete="off" />
      <BButton type="submit" variant="outline-secondary" :disabled="adding.busy.value">Add group</BButton>
    </form>
  </section>
</template>
