<script setup lang="ts">
import type { Workstation } from '../api/types'
import { late, nextRun } from '../logic/agent'
import { age, many, moment, noun, size, words } from '../logic/format'

/** What there is to know of a workstation in a few words each. */
defineProps<{ workstation: Workstation; now: Date }>()
</script>

<template>
  <section class="jf-panel mb-3" aria-label="Facts">
    <dl class="jf-facts">
      <div>
        <dt>Last complete point</dt>
        <dd>{{ workstation.latest_point ? age(workstation.latest_point.committed, now) : 'none yet' }}</dd>
      </div>
      <div>
        <dt>In it</dt>
        <dd>{{ workstation.latest_point ? `${many(workstation.latest_point.files, noun(workstation.latest_point.kind))}, ${size(workstation.latest_point.bytes)}` : '–' }}</dd>
      </div>
      <div>
        <dt>Next backup</dt>
        <dd :class="{ 'jf-bad': late(workstation.agent) }">{{ nextRun(workstation, now) }}</dd>
      </div>
      <div>
        <dt>Points</dt>
        <dd>{{ workstation.store.points }}</dd>
      </div>
      <div>
        <dt>Image store</dt>
        <dd>{{ workstation.store.used == null ? 'size unknown' : size(workstation.store.used) }} on {{ workstation.store.destination_name }}</dd>
      </div>
      <div>
        <dt>Encryption</dt>
        <dd>{{ workstation.store.encrypted ? 'on the workstation' : 'none: whoever gets at that disk can read it' }}</dd>
      </div>
      <div>
        <dt>Last drill</dt>
        <dd v-if="workstation.store.drill_failed" class="jf-bad">did not restore everything, {{ age(workstation.store.drill_failed, now) }}</dd>
        <dd v-else-if="workstation.store.drilled">restored point {{ workstation.store.drilled_point }}, {{ age(workstation.store.drilled, now) }}</dd>
        <dd v-else>none yet</dd>
      </div>
      <div v-if="workstation.store.encrypted">
        <dt>Last proof of a secret</dt>
        <dd :class="{ 'jf-bad': workstation.store.proof_due }">
          {{ workstation.store.proof ? `${words(workstation.store.proof.secret)}, ${age(workstation.store.proof.at, now)}` : 'none yet' }}<template v-if="workstation.store.proof_due">; overdue: its person shows at the workstation that a secret opens it</template>
        </dd>
      </div>
      <div>
        <dt>Machine</dt>
        <dd>{{ workstation.platform }}{{ workstation.disk_bytes ? `, disk ${size(workstation.disk_bytes)}` : '' }}</dd>
      </div>
      <div>
        <dt>Client</dt>
        <dd>{{ workstation.client_version }}, seen {{ workstation.last_seen ? age(workstation.last_seen, now) : 'never' }}</dd>
      </div>
      <div>
        <dt>Enrolled</dt>
        <dd>{{ moment(workstation.enrolled) }}</dd>
      </div>
    </dl>
  </section>
</template>
