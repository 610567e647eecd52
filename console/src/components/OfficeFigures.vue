<script setup lang="ts">
import { computed } from 'vue'
import { RouterLink } from 'vue-router'
import type { Office } from '../api/types'
import { age, count, size, words } from '../logic/format'
import BackupDays from './BackupDays.vue'

/** The figures that a glance in the morning needs. */
const props = defineProps<{ office: Office; now: Date }>()
const states = computed(() => props.office.states.filter(({ workstations }) => workstations > 0))
const least = computed(() => props.office.least_proven)
</script>

<template>
  <div class="row g-3 mb-3">
    <section class="col-12 col-lg-5" aria-labelledby="figures-workstations">
      <div class="jf-panel h-100">
        <h2 id="figures-workstations">Workstations</h2>
        <dl class="jf-facts">
          <div v-for="one in states" :key="one.state">
            <dt>{{ words(one.state) }}</dt>
            <dd><RouterLink :to="{ name: 'workstations', query: { state: one.state } }">{{ count(one.workstations) }}</RouterLink></dd>
          </div>
          <div>
            <dt>Protected by latest points</dt>
            <dd>{{ size(office.protected_bytes) }}</dd>
          </div>
          <div v-if="least">
            <dt>Longest without a drill</dt>
            <dd><RouterLink :to="{ name: 'workstation', params: { id: least.workstation } }">{{ least.name }}</RouterLink>, {{ least.drilled ? age(least.drilled, now) : 'never drilled' }}</dd>
          </div>
        </dl>
      </div>
    </section>
    <section class="col-12 col-lg-7" aria-labelledby="figures-days">
      <div class="jf-panel h-100">
        <h2 id="figures-days">Backups of the last 14 days</h2>
        <BackupDays :days="office.days" />
      </div>
    </section>
  </div>
</template>
