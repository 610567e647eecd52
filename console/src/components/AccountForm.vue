<script setup lang="ts">
import { BButton, BFormCheckboxGroup, BFormGroup, BFormSelect } from 'bootstrap-vue-next'
import { ref } from 'vue'
import { answer, api } from '../api/client'
import type { AccountKind, Role } from '../api/types'
import { useForm } from '../composables/useForm'
import { KINDS, ROLES } from '../logic/people'
import ProblemAlert from './ProblemAlert.vue'
import RuledInput from './RuledInput.vue'

/** Adds an account. */
defineProps<{ groups: string[] }>()
const emit = defineEmits<{ changed: [] }>()
const login = ref('')
const name = ref('')
const kind = ref<AccountKind>('person')
const role = ref<Role>('member')
const password = ref('')
const inGroups = ref<string[]>([])

const adding = useForm(async () => {
  await answer(
    api.POST('/api/v1/accounts', {
      body: { login: login.value, display_name: name.value || null, kind: kind.value, role: role.value, password: password.value || null, groups: inGroups.value },
    }),
  )
  login.value = name.value = password.value = ''
  role.value = 'member'
  kind.value = 'person'
  emit('changed')
})
</script>

<template>
  <form class="jf-panel mb-4" aria-labelledby="add-account" @submit.prevent="adding.submit">
    <h2 id="add-account">Add an account</h2>
    <ProblemAlert :problem="adding.problem.value" />
    <div class="row g-3">
      <RuledInput id="account-login" v-model="login" label="Login name" rule="account-name" column="col-3" required autocomplete="off" />
      <RuledInput id="account-name" v-model="name" label="Name of the person" rule="name" column="col-3" autocomplete="off" />
      <BFormGroup label="Kind of account" label-for="account-kind" class="col-3"><BFormSelect id="account-kind" v-model="kind" :options="KINDS" /></BFormGroup>
      <BFormGroup label="Role" label-for="account-role" class="col-3"><BFormSelect id="account-role" v-model="role" :options="ROLES" /></BFormGroup>
      <RuledInput id="account-password" v-model="password" label="Password" rule="password" description="Empty: only owns workstations." column="col-3" type="password" autocomplete="new-password" />
      <fieldset v-if="groups.length" class="col-9">
        <legend class="fs-6 mb-1">Groups</legend>
        <BFormCheckboxGroup v-model="inGroups" :options="groups" />
      </fieldset>
    </div>
    <BButton type="submit" variant="primary" class="mt-3" :disabled="adding.busy.value">Add account</BButton>
  </form>
</template>
