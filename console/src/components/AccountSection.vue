<script setup lang="ts">
import { BButton, BFormGroup, BFormInput, BFormSelect } from 'bootstrap-vue-next'
import { onMounted, ref } from 'vue'
import { get, post } from '../api/client'
import type { Account, Page, Role } from '../api/types'
import { useForm } from '../composables/useForm'
import { useLoad } from '../composables/useLoad'
import ProblemAlert from './ProblemAlert.vue'
import QuotaCell from './QuotaCell.vue'

defineProps<{ mayChange: boolean }>()
const { data, problem, reload } = useLoad(() => get<Page<Account>>('/accounts?most=500'))
const login = ref('')
const name = ref('')
const role = ref<Role>('member')
const password = ref('')
const ROLES = [
  { value: 'member', text: 'member: own workstations only' },
  { value: 'helpdesk', text: 'helpdesk: sees all, changes nothing' },
  { value: 'administrator', text: 'administrator: everything' },
]

const adding = useForm(async () => {
  await post<Account>('/accounts', { login: login.value, display_name: name.value || null, role: role.value, password: password.value || null })
  login.value = name.value = password.value = ''
  role.value = 'member'
  await reload()
})

onMounted(reload)
</script>

<template>
  <section class="mb-4" aria-labelledby="accounts">
    <h2 id="accounts">Accounts</h2>
    <ProblemAlert :problem="problem" retry @retry="reload" />
    <div class="jf-panel table-responsive mb-3">
      <table class="table align-middle">
        <thead>
          <tr>
            <th scope="col">Login</th>
            <th scope="col">Name</th>
            <th scope="col">Role</th>
            <th scope="col">Groups</th>
            <th scope="col">Signs in</th>
            <th scope="col" class="jf-number">Workstations</th>
            <th scope="col" class="jf-number">Quota</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="a in data?.items" :key="a.id">
            <th scope="row">{{ a.login }}</th>
            <td>{{ a.display_name }}</td>
            <td>{{ a.role }}</td>
            <td>{{ a.groups.join(', ') || '–' }}</td>
            <td>{{ a.can_sign_in ? 'yes' : 'no password' }}</td>
            <td class="jf-number">{{ a.workstations }}</td>
            <td class="jf-number"><QuotaCell :account="a" :may-change="mayChange" @changed="reload" /></td>
          </tr>
        </tbody>
      </table>
    </div>
    <form v-if="mayChange" class="jf-panel" @submit.prevent="adding.submit">
      <ProblemAlert :problem="adding.problem.value" />
      <div class="row g-3">
        <BFormGroup label="Login name" label-for="account-login" class="col-3"><BFormInput id="account-login" v-model="login" required maxlength="64" autocomplete="off" /></BFormGroup>
        <BFormGroup label="Name of the person" label-for="account-name" class="col-3"><BFormInput id="account-name" v-model="name" maxlength="64" autocomplete="off" /></BFormGroup>
        <BFormGroup label="Role" label-for="account-role" class="col-3"><BFormSelect id="account-role" v-model="role" :options="ROLES" /></BFormGroup>
        <BFormGroup label="Password" label-for="account-password" description="Empty: only owns workstations." class="col-3">
          <BFormInput id="account-password" v-model="password" type="password" minlength="10" autocomplete="new-password" />
        </BFormGroup>
      </div>
      <BButton type="submit" variant="primary" class="mt-3" :disabled="adding.busy.value">Add account</BButton>
    </form>
  </section>
</template>
