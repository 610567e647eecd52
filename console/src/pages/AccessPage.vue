<script setup lang="ts">
import { computed, onMounted } from 'vue'
import { api, list } from '../api/client'
import GrantsForm from '../components/GrantsForm.vue'
import PeopleTabs from '../components/PeopleTabs.vue'
import ProblemAlert from '../components/ProblemAlert.vue'
import { useEvents } from '../composables/useEvents'
import { useLoad } from '../composables/useLoad'
import { useSession } from '../composables/useSession'
import { cellText } from '../logic/access'
import { many } from '../logic/format'

const { account } = useSession()
const mayChange = computed(() => account.value?.role === 'administrator')
const { data, problem, loading, reload } = useLoad(async () => {
  const [lines, destinations, accounts, groups] = await Promise.all([
    list((query) => api.GET('/api/v1/access', { params: { query } })),
    list(() => api.GET('/api/v1/destinations')),
    list((query) => api.GET('/api/v1/accounts', { params: { query } })),
    list(() => api.GET('/api/v1/groups')),
  ])
  return { lines, destinations, accounts, groups }
})
const SEES = { administrator: 'all, and changes all', helpdesk: 'all', member: 'own' }

useEvents((event) => void (event.what === 'office' && reload()), reload)
onMounted(reload)
</script>

<template>
  <PeopleTabs />
  <h1 class="mb-1">Access</h1>
  <p class="jf-quiet">Which accounts may back up to which destination. Nobody may until access is granted. Revoking access stops new backups; existing ones stay and can be restored.</p>
  <ProblemAlert :problem="problem" retry @retry="reload" />
  <p v-if="loading && !data" class="jf-quiet" role="status">Loading…</p>
  <template v-if="data">
    <div class="row g-3 mb-4">
      <div v-for="d in data.destinations" :key="d.id" class="col-12 col-xl-6"><GrantsForm :destination="d" :accounts="data.accounts" :groups="data.groups" :may-change="mayChange" @changed="reload" /></div>
      <p v-if="!data.destinations.length" class="mb-0">There is no destination yet: add one under Storage.</p>
    </div>
    <section v-if="data.destinations.length" aria-labelledby="matrix">
      <h2 id="matrix">What each account has, and why</h2>
      <div class="jf-panel table-responsive">
        <table class="table align-middle mb-0">
          <thead>
            <tr>
              <th scope="col">Login</th>
              <th scope="col">Name</th>
              <th scope="col">Sees and restores, by role</th>
              <th v-for="d in data.destinations" :key="d.id" scope="col">Backs up to {{ d.name }}</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="line in data.lines" :key="line.login">
              <th scope="row">{{ line.login }}</th>
              <td>{{ line.display_name }}</td>
              <td>{{ line.disabled ? 'nothing: disabled' : SEES[line.role] }}</td>
              <td v-for="cell in line.cells" :key="cell.destination" :class="{ 'jf-quiet': !cell.reasons.length }">
                {{ line.disabled ? 'no: disabled' : cellText(cell) }}
                <div v-if="cell.stores" class="small" :class="cell.reasons.length ? 'jf-quiet' : 'jf-note'">{{ many(cell.stores, 'image store') }} there{{ cell.reasons.length ? '' : ', but no new backups' }}</div>
              </td>
            </tr>
          </tbody>
        </table>
      </div>
    </section>
  </template>
</template>
