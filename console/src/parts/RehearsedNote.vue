<script setup lang="ts">
import type { Rehearsed } from '../api'
import StateMark from './StateMark.vue'

/** What a change of the rules would make another decision. */
defineProps<{ result: Rehearsed }>()
</script>

<template>
  <section class="rehearsed" role="status" aria-label="What would be another decision">
    <p>{{ result.text.charAt(0).toUpperCase() + result.text.slice(1) }}.</p>
    <table v-if="result.groups.length" class="list">
      <thead>
        <tr>
          <th>Calls</th>
          <th>Agent</th>
          <th>Tool</th>
          <th>Then</th>
          <th style="width: 36%">Like</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="g in result.groups.slice(0, 8)" :key="g.agent + g.tool + g.after">
          <td>{{ g.calls }}</td>
          <td>{{ g.agent }}</td>
          <td class="mono">{{ g.server }}/{{ g.tool }}</td>
          <td><StateMark :state="g.after" /></td>
          <td class="mono soft">{{ g.samples[0]?.arguments }}</td>
        </tr>
      </tbody>
    </table>
    <table v-else-if="result.reach.length" class="list">
      <thead>
        <tr>
          <th>Agent</th>
          <th>Tool</th>
          <th>Now</th>
          <th>Then</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="r in result.reach.slice(0, 8)" :key="r.agent + r.server + r.tool">
          <td>{{ r.agent }}</td>
          <td class="mono">{{ r.server }}/{{ r.tool }}</td>
          <td><StateMark :state="r.before" /></td>
          <td><StateMark :state="r.after" /><span v-if="r.narrowed" class="soft"> within other limits</span></td>
        </tr>
      </tbody>
    </table>
  </section>
</template>

<style scoped>
.rehearsed {
  border: 1px solid var(--line);
  border-left: 3px solid var(--warn);
  border-radius: 5px;
  padding: 8px 12px;
  margin: 10px 0;
}
p {
  margin: 0 0 6px;
}
td {
  overflow-wrap: anywhere;
}
</style>
