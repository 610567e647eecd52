<script setup lang="ts">
import { BButton } from 'bootstrap-vue-next'
import type { Account } from '../api/types'
import { useAddress } from '../composables/useAddress'
import { size, words } from '../logic/format'
import AccountDetail from './AccountDetail.vue'
import StateWord from './StateWord.vue'

/** All accounts; one of them can be opened to be changed. */
defineProps<{ accounts: Account[]; groups: string[]; mayChange: boolean; own?: string }>()
const emit = defineEmits<{ changed: [] }>()
const { shown, show } = useAddress(['account'] as const)
const isOpen = (account: Account) => shown.value.account === account.login

function signIn(a: Account): string {
  if (!a.can_sign_in) return 'no password'
  return a.second_factor ? 'two factors' : 'password'
}
</script>

<template>
  <div class="jf-panel table-responsive">
    <table class="table align-middle mb-0">
      <thead>
        <tr>
          <th scope="col">Login</th>
          <th scope="col">Name</th>
          <th scope="col">Kind</th>
          <th scope="col">Role</th>
          <th scope="col">Groups</th>
          <th scope="col">Signs in with</th>
          <th scope="col">State</th>
          <th scope="col" class="jf-number">Workstations</th>
          <th scope="col" class="jf-number">Quota</th>
          <th v-if="mayChange" scope="col"><span class="visually-hidden">Actions</span></th>
        </tr>
      </thead>
      <tbody>
        <template v-for="a in accounts" :key="a.id">
          <tr>
            <th scope="row">{{ a.login }}</th>
            <td>{{ a.display_name }}</td>
            <td>{{ words(a.kind) }}</td>
            <td>{{ a.role }}</td>
            <td>{{ a.groups.join(', ') || '–' }}</td>
            <td>{{ signIn(a) }}</td>
            <td><StateWord :state="a.state" /></td>
            <td class="jf-number">{{ a.workstations }}</td>
            <td class="jf-number">{{ a.quota == null ? 'no limit' : size(a.quota) }}</td>
            <td v-if="mayChange" class="text-end">
              <BButton size="sm" variant="outline-secondary" :aria-expanded="isOpen(a)" :aria-label="`${isOpen(a) ? 'Close' : 'Open'} ${a.login}`" @click="show({ account: isOpen(a) ? '' : a.login })">
                {{ isOpen(a) ? 'Close' : 'Open' }}
              </BButton>
            </td>
          </tr>
          <tr v-if="isOpen(a) && mayChange">
            <td colspan="10"><AccountDetail :account="a" :accounts="accounts" :groups="groups" :is-own="a.id === own" @changed="emit('changed')" /></td>
          </tr>
        </template>
      </tbody>
    </table>
  </div>
</template>
