<script setup lang="ts">
import { computed, onMounted } from 'vue'
import { api, list } from '../api/client'
import AccountForm from '../components/AccountForm.vue'
import AccountTable from '../components/AccountTable.vue'
import GroupSection from '../components/GroupSection.vue'
import PeopleTabs from '../components/PeopleTabs.vue'
import ProblemAlert from '../components/ProblemAlert.vue'
import { useEvents } from '../composables/useEvents'
import { useLoad } from '../composables/useLoad'
import { useSession } from '../composables/useSession'

const { account } = useSession()
const mayChange = computed(() => account.value?.role === 'administrator')
const { data, problem, loading, reload } = useLoad(async () => {
  const [accounts, groups] = await Promise.all([list((query) => api.GET('/api/v1/accounts', { params: { query } })), list(() => api.GET('/api/v1/groups'))])
  return { accounts, groups }
})
const groupNames = computed(() => data.value?.groups.map((g) => g.name) ?? [])

useEvents((event) => void (event.what === 'office' && reload()), reload)
onMounted(reload)
</script>

<template>
  <PeopleTabs />
  <h1 class="mb-1">People</h1>
  <p class="jf-quiet">Start with one account per person: a shared account shows the backups of all its machines to everybody who knows its password. Machines have credentials of their own and need no password.</p>
  <ProblemAlert :problem="problem" retry @retry="reload" />
  <p v-if="loading && !data" class="jf-quiet" role="status">Loading…</p>
  <template v-if="data">
    <section class="mb-4" aria-labelledby="accounts">
      <h2 id="accounts">Accounts</h2>
      <AccountTable :accounts="data.accounts" :groups="groupNames" :may-change="mayChange" :own="account?.id" @changed="reload" />
    </section>
    <AccountForm v-if="mayChange" :groups="groupNames" @changed="reload" />
    <GroupSection :groups="data.groups" :accounts="data.accounts" :may-change="mayChange" @changed="reload" />
  </template>
</template>
