<script setup lang="ts">
import { ElButton, ElInput } from 'element-plus'
import { computed, onMounted, ref } from 'vue'
import * as api from '../api'
import ListFrame from '../parts/ListFrame.vue'
import { attempt, confirmed } from '../use/confirm'
import { fullMoment, moment } from '../use/format'
import { useFilter } from '../use/filter'
import { useLive } from '../use/live'
import { useResource } from '../use/resource'

/** What was altered in Bouncer's own state, by whom; undone where that can be. */
const page = 100
const { filter, among } = useFilter()
const wanted = ref(page)
const { data, error, loading, load } = useResource(() => api.changes(wanted.value))
onMounted(load)
useLive({ topics: () => void load(), back: load })
const shown = computed(() => among(data.value, (c) => [c.person, c.what, c.subject, c.before, c.after]))
const more = computed(() => (data.value?.length ?? 0) >= wanted.value && wanted.value < 500)
function further() {
  wanted.value = 500
  void load()
}
async function undo(c: api.Change) {
  const text = `${c.what} of ${c.subject} by ${c.person}, ${fullMoment(c.at)}. It goes back to: ${c.before || 'nothing'}. This can be undone in turn.`
  if ((await confirmed(`Undo the change of ${c.subject}?`, text, 'Undo')) && (await attempt(() => api.undoChange(c.id)))) void load()
}
</script>

<template>
  <div class="pagehead">
    <h1>Changes</h1>
    <ElInput v-model="filter" class="filter" placeholder="Filter by person, noun, name" clearable aria-label="Filter changes" />
    <span class="soft">Every alteration of servers, secrets, rules, agents and people, newest first.</span>
  </div>
  <ListFrame :loading="loading" :error="error" :total="data?.length" :shown="shown.length" :retry="load">
    <template #empty>Nothing has been altered yet. Register a server, and it is recorded here.</template>
    <table class="list">
      <colgroup>
        <col style="width: 118px" />
        <col style="width: 9%" />
        <col style="width: 13%" />
        <col style="width: 14%" />
        <col />
        <col />
        <col style="width: 76px" />
      </colgroup>
      <thead>
        <tr>
          <th>Time</th>
          <th>Person</th>
          <th>Change</th>
          <th>Of</th>
          <th>Before</th>
          <th>After</th>
          <th></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="c in shown" :key="c.id">
          <td class="soft" :title="fullMoment(c.at)">{{ moment(c.at) }}</td>
          <td>{{ c.person }}</td>
          <td>{{ c.what }}</td>
          <td class="mono">{{ c.subject }}</td>
          <td>{{ c.before || '–' }}</td>
          <td>{{ c.after || '–' }}</td>
          <td>
            <button v-if="c.undoable" class="plain" type="button" :aria-label="`Undo ${c.what} of ${c.subject}`" @click="undo(c)">
              Undo
            </button>
          </td>
        </tr>
      </tbody>
    </table>
  </ListFrame>
  <p v-if="more"><ElButton size="small" @click="further">Show more</ElButton></p>
</template>

<style scoped>
.filter {
  width: 260px;
}
</style>
