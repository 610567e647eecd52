<script setup lang="ts">
import { computed } from 'vue'
import MaintenancePanel from '../components/MaintenancePanel.vue'
import AuditSection from '../components/AuditSection.vue'
import JobSection from '../components/JobSection.vue'
import MailPanel from '../components/MailPanel.vue'
import { useSession } from '../composables/useSession'

const { account } = useSession()
const mayChange = computed(() => account.value?.role === 'administrator')
</script>

<template>
  <h1 class="mb-3">Activity</h1>
  <MaintenancePanel :may-change="mayChange" />
  <MailPanel :may-change="mayChange" />
  <JobSection :may-change="mayChange" />
  <AuditSection />
</template>
