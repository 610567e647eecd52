<script setup lang="ts">
import { BButton, BFormCheckbox, BFormCheckboxGroup } from 'bootstrap-vue-next'
import { computed, ref, watch } from 'vue'
import { answer, api, at, since } from '../api/client'
import type { Account, Destination, Group, Grants } from '../api/types'
import { useEdit } from '../composables/useEdit'
import { grantsText } from '../logic/access'
import type { Line } from '../logic/edit'
import { many } from '../logic/format'
import EditAlert from './EditAlert.vue'

/** Who has access to a destination. */
const props = defineProps<{ destination: Destination; accounts: Account[]; groups: Group[]; mayChange: boolean }>()
const emit = defineEmits<{ changed: [] }>()

const everybody = ref(false)
const openGroups = ref<string[]>([])
const logins = ref<string[]>([])
const groupOptions = computed(() => props.groups.map((g) => ({ value: g.name, text: `${g.name} (${many(g.logins.length, 'account')})` })))
const loginOptions = computed(() => props.accounts.map((a) => ({ value: a.login, text: a.display_name })))

const here = at({ id: props.destination.id })
const lines = (to: Grants): Line[] => [
  ['Everybody', to.everybody ? 'yes' : 'no'],
  ['Groups', [...(to.groups ?? [])].sort().join(', ')],
  ['Accounts', [...(to.logins ?? [])].sort().join(', ')],
]
const chosen = (): Grants => ({ everybody: everybody.value, groups: openGroups.value, logins: logins.value })
const saving = useEdit<Destination>({
  load: () => answer(api.GET('/api/v1/destinations/{id}', here)),
  version: (d) => d.version,
  fill: (d) => {
    everybody.value = d.grants.everybody ?? false
    openGroups.value = [...(d.grants.groups ?? [])]
    logins.value = [...(d.grants.logins ?? [])]
  },
  lines: (d) => lines(d.grants),
  mine: () => lines(chosen()),
  save: async (version) => {
    saving.begin(await answer(api.PATCH('/api/v1/destinations/{id}', { ...here, body: { grants: chosen() }, ...since(version) })))
    emit('changed')
  },
})
watch(() => props.destination, saving.refresh, { immediate: true })
</script>

<template>
  <form class="jf-panel h-100" :aria-label="`Who may back up to ${destination.name}`" @submit.prevent="saving.submit">
    <h2>{{ destination.name }}</h2>
    <EditAlert :problem="saving.problem.value" :differing="saving.differing.value" :busy="saving.busy.value" @mine="saving.saveMine" @theirs="saving.takeTheirs" />
    <p class="mb-2">Access: <strong>{{ grantsText(destination.grants) }}</strong>.</p>
    <template v-if="mayChange">
      <BFormCheckbox v-model="everybody" class="mb-2">Everybody, including future accounts</BFormCheckbox>
      <fieldset v-if="groupOptions.length" class="mb-2">
        <legend class="fs-6 mb-1">Groups</legend>
        <BFormCheckboxGroup v-model="openGroups" :options="groupOptions" />
      </fieldset>
      <fieldset class="mb-3">
        <legend class="fs-6 mb-1">Accounts</legend>
        <BFormCheckboxGroup v-model="logins" :options="loginOptions" />
      </fieldset>
      <div class="d-flex gap-2">
        <BButton type="submit" variant="primary" :disabled="saving.busy.value" :aria-label="`Save who may back up to ${destination.name}`">Save</BButton>
        <BButton variant="outline-secondary" :aria-label="`Cancel: ${destination.name}`" @click="saving.begin(destination)">Cancel</BButton>
      </div>
    </template>
  </form>
</template>
