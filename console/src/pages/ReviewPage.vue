<script setup lang="ts">
import { ElButton, ElInput, ElOption, ElSelect } from 'element-plus'
import { computed, onMounted } from 'vue'
import * as api from '../api'
import ListFrame from '../parts/ListFrame.vue'
import { attempt, confirmed } from '../use/confirm'
import { compare } from '../use/difference'
import { useFilter } from '../use/filter'
import { useLive } from '../use/live'
import { useResource } from '../use/resource'
import { useSession } from '../use/session'

/** Tools that are new or changed, side by side with what was accepted. */
const { may } = useSession()
const { filter, match } = useFilter()
const { data, error, loading, load } = useResource(() => api.reviews())
onMounted(load)
useLive({ topics: (t) => ['reviews', 'servers'].includes(t) && void load(), back: load })
const open = computed(() =>
  (data.value ?? [])
    .flatMap((r) => r.open.map((o) => ({ server: r.server, ...o })))
    .filter((o) => match(o.server, o.tool, o.state, ...o.suspicions.map((s) => s.text)))
    .sort((a, b) => b.suspicions.length - a.suspicions.length),
)
const servers = computed(() => (data.value ?? []).filter((r) => match(r.server, r.mode)))
const modes = { trust: 'trust', changes: 'review changes', all: 'review all' }
const meanwhile = { old: 'Agents keep the tool as it was accepted.', nothing: 'Agents do not have it.' }
async function accept(server: string, tools: { tool: string; after?: unknown }[]) {
  const looked = tools.map(({ tool, after }) => ({ tool, after }))
  if (await attempt(() => api.acceptTools(server, { tools: looked }))) void load()
}
async function acceptAll(r: api.ServerReview) {
  const suspicious = r.open.filter((o) => o.suspicions.length).length
  const text = suspicious
    ? `${suspicious} of ${r.open.length} look suspicious.`
    : `${r.open.length} tools are shown to agents as the server lists them now.`
  if (await confirmed(`Accept everything of ${r.server}?`, text, 'Accept all')) await accept(r.server, r.open)
}
async function setMode(r: api.ServerReview, mode: api.ServerReview['mode']) {
  await attempt(() => api.setReviewMode(r.server, mode))
  void load()
}
</script>

<template>
  <div class="pagehead">
    <h1>Review</h1>
    <ElInput v-model="filter" class="filter" placeholder="Filter by server, tool, suspicion" clearable aria-label="Filter reviews" />
    <span class="soft">{{ open.length === 1 ? '1 tool waits' : `${open.length} tools wait` }}</span>
  </div>
  <section v-for="o in open" :key="o.server + o.tool" class="sheet pad one" :aria-label="`${o.tool} of ${o.server}`">
    <div class="top">
      <strong class="mono">{{ o.server }} / {{ o.tool }}</strong>
      <span :class="o.state === 'new' ? 'soft' : 'warn'">{{ o.state }}</span>
      <span class="soft">{{ meanwhile[o.meanwhile] }}</span>
      <span class="grow"></span>
      <ElButton
        v-if="may('servers.keep')"
        size="small"
        :type="o.suspicions.length ? 'default' : 'primary'"
        :aria-label="`Accept ${o.tool}`"
        @click="accept(o.server, [o])"
        >Accept</ElButton
      >
    </div>
    <ul v-if="o.suspicions.length" class="suspicions">
      <li v-for="s in o.suspicions" :key="s.code">
        <span class="bad">{{ s.text }}</span><span v-if="s.excerpt" class="mono soft"> …{{ s.excerpt }}…</span>
      </li>
    </ul>
    <div class="sides">
      <div>
        <h2>Accepted</h2>
        <pre
          class="body"
          tabindex="0"
        ><span v-for="(l, i) in compare(o.before, o.after).before" :key="i" :class="{ gone: l.differs }">{{ l.text }}
</span><span v-if="!o.before" class="soft">nothing</span></pre>
      </div>
      <div>
        <h2>Listed now</h2>
        <pre
          class="body"
          tabindex="0"
        ><span v-for="(l, i) in compare(o.before, o.after).after" :key="i" :class="{ come: l.differs }">{{ l.text }}
</span></pre>
      </div>
    </div>
  </section>
  <p v-if="data && !open.length" class="soft">Nothing waits for a review.</p>
  <div class="pagehead gap"><h2>Servers</h2></div>
  <ListFrame :loading="loading" :error="error" :total="data?.length" :shown="servers.length" :retry="load">
    <template #empty>
      <p>There are no servers yet. <RouterLink to="/servers">Register one</RouterLink>, and say here whether its changes are reviewed.</p>
    </template>
    <table class="list">
      <colgroup>
        <col style="width: 30%" />
        <col style="width: 220px" />
        <col />
        <col v-if="may('servers.keep')" style="width: 110px" />
      </colgroup>
      <thead>
        <tr>
          <th>Server</th>
          <th>Its tool list</th>
          <th>Waiting</th>
          <th v-if="may('servers.keep')"></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="r in servers" :key="r.server">
          <td>
            <RouterLink :to="`/servers/${r.server}`">{{ r.server }}</RouterLink>
          </td>
          <td>
            <ElSelect
              v-if="may('servers.keep')"
              :model-value="r.mode"
              size="small"
              :aria-label="`How ${r.server} is reviewed`"
              @update:model-value="(m: api.ServerReview['mode']) => setMode(r, m)"
            >
              <ElOption v-for="(text, mode) in modes" :key="mode" :value="mode" :label="text" />
            </ElSelect>
            <span v-else>{{ modes[r.mode] }}</span>
          </td>
          <td>
            {{ r.mode === 'trust' ? '–' : `${r.open.length} of ${r.tools} tools` }}
          </td>
          <td v-if="may('servers.keep')">
            <button v-if="r.open.length" class="plain" type="button" :aria-label="`Accept all of ${r.server}`" @click="acceptAll(r)">
              Accept all
            </button>
          </td>
        </tr>
      </tbody>
    </table>
  </ListFrame>
</template>

<style scoped>
.filter {
  width: 260px;
}
.one {
  margin-bottom: 12px;
}
.top {
  display: flex;
  align-items: center;
  gap: 12px;
}
.grow {
  flex: 1;
}
.suspicions {
  margin: 8px 0;
  padding-left: 18px;
}
.suspicions li {
  overflow-wrap: anywhere;
}
.sides {
  display: grid;
  grid-template-columns: minmax(0, 1fr) minmax(0, 1fr);
  gap: 14px;
}
.sides h2 {
  margin: 6px 0;
}
pre span {
  display: block;
}
.gone {
  background: color-mix(in srgb, var(--bad) 18%, transparent);
}
.come {
  background: color-mix(in srgb, var(--good) 18%, transparent);
}
.gap {
  margin-top: 20px;
}
.gap h2 {
  margin: 0;
}
</style>
