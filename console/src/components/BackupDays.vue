<script setup lang="ts">
import { computed } from 'vue'
import type { DayOfBackups } from '../api/types'
import { count } from '../logic/format'
import { OUTCOMES, bars, runsOf } from '../logic/office'

/** What became of the backups of each day: bars for those who see them, a table for those who do not, or want the figures. */
const props = defineProps<{ days: DayOfBackups[] }>()
const drawn = computed(() => bars(props.days))
const total = computed(() => props.days.reduce((sum, day) => sum + runsOf(day), 0))
</script>

<template>
  <div class="jf-days" aria-hidden="true">
    <div v-for="bar in drawn" :key="bar.day" class="jf-day" :title="bar.day">
      <span v-for="part in bar.parts" :key="part.key" :class="`is-${part.key}`" :style="{ height: `${part.share * 100}%` }"></span>
    </div>
  </div>
  <div class="jf-axis" aria-hidden="true"><span>{{ days[0]?.day }}</span><span>{{ days.at(-1)?.day }}</span></div>
  <ul class="jf-legend" aria-hidden="true">
    <li v-for="outcome in OUTCOMES" :key="outcome.key"><span :class="`is-${outcome.key}`"></span>{{ outcome.text }}</li>
  </ul>
  <details>
    <summary>{{ total ? 'Figures' : 'There was no run' }}</summary>
    <div class="table-responsive">
      <table class="table table-sm">
        <thead>
          <tr>
            <th scope="col">Day</th>
            <th v-for="outcome in OUTCOMES" :key="outcome.key" scope="col" class="jf-number">{{ outcome.text }}</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="day in [...days].reverse()" :key="day.day">
            <th scope="row">{{ day.day }}</th>
            <td v-for="outcome in OUTCOMES" :key="outcome.key" class="jf-number">{{ count(day[outcome.key]) }}</td>
          </tr>
        </tbody>
      </table>
    </div>
  </details>
</template>
