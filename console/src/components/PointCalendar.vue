<script setup lang="ts">
import { BButton } from 'bootstrap-vue-next'
import { computed, ref, watch } from 'vue'
import type { Point } from '../api/types'
import { byDay, dayOf, dayText, monthAfter, monthOf, monthText, timeOf, weeksOf } from '../logic/calendar'
import { many, noun, size } from '../logic/format'
import { isSuspect, looks } from '../logic/suspects'

/** Points by day: choose a day, then a time of it. */
const props = defineProps<{ points: Point[]; chosen?: number }>()
const emit = defineEmits<{ choose: [point: number] }>()

const days = computed(() => byDay(props.points))
const chosenDay = computed(() => {
  const point = props.points.find((one) => one.sequence === props.chosen)
  return point && dayOf(point.committed)
})
const shownDay = ref<string>()
const month = ref(monthOf(dayOf(props.points[0]?.committed ?? new Date())))
const first = computed(() => monthOf(dayOf(props.points.at(-1)?.committed ?? new Date())))
const last = computed(() => monthOf(dayOf(props.points[0]?.committed ?? new Date())))
const ofDay = computed(() => (shownDay.value && days.value.get(shownDay.value)) || [])

watch(
  chosenDay,
  (day) => {
    if (!day) return
    shownDay.value = day
    month.value = monthOf(day)
  },
  { immediate: true },
)

const isOdd = (day: string) => (days.value.get(day) ?? []).some(isSuspect)
const label = (day: string) => `${dayText(day)}: ${many(days.value.get(day)?.length ?? 0, 'point')}${isOdd(day) ? ', suspect' : ''}`
</script>

<template>
  <section aria-labelledby="calendar">
    <h2 id="calendar" class="visually-hidden">Recovery points by day</h2>
    <div class="d-flex align-items-center justify-content-between mb-1">
      <BButton size="sm" variant="outline-secondary" :disabled="month <= first" aria-label="Month before" @click="month = monthAfter(month, -1)">‹</BButton>
      <strong aria-live="polite">{{ monthText(month) }}</strong>
      <BButton size="sm" variant="outline-secondary" :disabled="month >= last" aria-label="Month after" @click="month = monthAfter(month, 1)">›</BButton>
    </div>
    <table class="jf-calendar">
      <thead>
        <tr>
          <th v-for="day in ['Mo', 'Tu', 'We', 'Th', 'Fr', 'Sa', 'Su']" :key="day" scope="col">{{ day }}</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="(week, i) in weeksOf(month)" :key="i">
          <td v-for="(day, j) in week" :key="j">
            <button
              v-if="day && days.has(day)"
              type="button"
              :class="{ 'is-chosen': day === shownDay, 'is-suspect': isOdd(day) }"
              :aria-label="label(day)"
              :aria-pressed="day === shownDay"
              @click="shownDay = day"
            >
              {{ Number(day.slice(8)) }}
            </button>
            <span v-else-if="day" class="jf-quiet">{{ Number(day.slice(8)) }}</span>
          </td>
        </tr>
      </tbody>
    </table>
    <template v-if="shownDay">
      <h3 class="fs-6 mt-2 mb-1">{{ dayText(shownDay) }}</h3>
      <ul class="list-unstyled mb-0 jf-times">
        <li v-for="p in ofDay" :key="p.sequence">
          <button type="button" :class="{ 'is-chosen': p.sequence === chosen }" :aria-pressed="p.sequence === chosen" :disabled="p.lost" @click="emit('choose', p.sequence)">
            <strong>{{ timeOf(p.committed) }}</strong> point {{ p.sequence }}
            <span class="jf-quiet d-block small">{{ p.lost ? 'its files are lost' : `${many(p.files, noun(p.kind))}, ${size(p.bytes)}` }}</span>
            <span v-if="isSuspect(p)" class="jf-bad d-block small">{{ looks(p.suspicion) }}</span>
          </button>
        </li>
      </ul>
    </template>
  </section>
</template>
