<script setup lang="ts">
import { computed } from 'vue'
import DiscoveryPanel from '../components/DiscoveryPanel.vue'
import MailPanel from '../components/MailPanel.vue'
import MaintenancePanel from '../components/MaintenancePanel.vue'
import PageTabs from '../components/PageTabs.vue'
import SetupPanel from '../components/SetupPanel.vue'
import { useSession } from '../composables/useSession'

defineProps<{ tab: string }>()
const { account } = useSession()
const mayChange = computed(() => account.value?.role === 'administrator')
const TABS = [
  { text: 'What is left to do', to: { name: 'setup', params: { tab: '' } } },
  { text: 'Discovery', to: { name: 'setup', params: { tab: 'discovery' } } },
  { text: 'Mail', to: { name: 'setup', params: { tab: 'mail' } } },
  { text: 'Maintenance', to: { name: 'setup', params: { tab: 'maintenance' } } },
]
</script>

<template>
  <h1 class="mb-2">Setup</h1>
  <PageTabs label="Of the setup" :tabs="TABS" />
  <SetupPanel v-if="tab === ''" :may-change="mayChange" />
  <DiscoveryPanel v-else-if="tab === 'discovery'" :may-change="mayChange" />
  <MailPanel v-else-if="tab === 'mail'" :may-change="mayChange" />
  <MaintenancePanel v-else :may-change="mayChange" />
</template>
