<script setup lang="ts">
import { onMounted } from 'vue'
import { answer, api } from '../api/client'
import { useLoad } from '../composables/useLoad'
import { moment } from '../logic/format'

/** How the server itself is protected, or that it is not: permanently, on every page. */
const { data, reload } = useLoad(() => answer(api.GET('/api/v1/protection')))
onMounted(reload)
</script>

<template>
  <footer v-if="data" class="jf-page px-3 px-lg-4 pb-4 small">
    <span :class="data.protected ? 'jf-quiet' : 'jf-note'">
      {{ data.says }} {{ data.copied ? `Last copy: ${moment(data.copied)}.` : '' }} {{ data.office_key ? `Opened by the office key ${data.office_key}.` : '' }}
    </span>
  </footer>
</template>
