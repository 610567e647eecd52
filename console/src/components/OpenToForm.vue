<script setup lang="ts">
import { BButton, BFormCheckbox, BFormCheckboxGroup } from 'bootstrap-vue-next'
import { computed, ref, watch } from 'vue'
import { patch } from '../api/client'
import type { Account, Destination, Group } from '../api/types'
import { useForm } from '../composables/useForm'
import { openToText } from '../logic/access'
import { many } from '../logic/format'
import ProblemAlert from './ProblemAlert.vue'

/** To whom a destination is open. */
const props = defineProps<{ destination: Destination; accounts: Account[]; groups: Group[]; mayChange: boolean }>()
const emit = defineEmits<{ changed: [] }>()

const everybody = ref(false)
const openGroups = ref<string[]>([])
const logins = ref<string[]>([])
const groupOptions = computed(() => props.groups.map((g) => ({ value: g.name, text: `${g.name} (${many(g.logins.length, 'account')})` })))
const loginOptions = computed(() => props.accounts.map((a) => ({ value: a.login, text: a.display_name })))

function reset() {
  everybody.value = props.destination.open_to.everybody ?? false
  openGroups.value = [...(props.destination.open_to.groups ?? [])]
  logins.value = [...(props.destination.open_to.logins ?? [])]
}
watch(() => props.destination, reset, { immediate: true })

const saving = useForm(async () => {
  await patch(`/destinations/${props.destination.id}`, { open_to: { everybody: everybody.value, groups: openGroups.value, logins: logins.value } })
  emit('changed')
})
</script>

<template>
  <form class="jf-panel h-100" :aria-label="`Who may back up to ${destination.name}`" @submit.prevent="saving.submit">
    <h2>{{ destination.name }}</h2>
    <ProblemAlert :problem="saving.problem.value" />
    <p class="mb-2">Open to <strong>{{ openToText(destination.open_to) }}</strong>.</p>
    <template v-if="mayChange">
      <BFormCheckbox v-model="everybody" class="mb-2">Everybody, also those who are yet to come</BFormCheckbox>
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
        <BButton variant="outline-secondary" :aria-label="`Leave as it is: ${destination.name}`" @click="reset">Leave as it is</BButton>
      </div>
    </template>
  </form>
</template>
