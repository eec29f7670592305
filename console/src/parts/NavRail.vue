<script setup lang="ts">
import {
  AlarmClock,
  Bell,
  Coin,
  Collection,
  Connection,
  DataBoard,
  EditPen,
  FirstAidKit,
  Grid,
  Key,
  List,
  Moon,
  Odometer,
  PriceTag,
  Stamp,
  Sunny,
  SwitchButton,
  Ticket,
  TrendCharts,
  User,
  VideoPlay,
  View,
} from '@element-plus/icons-vue'
import { ElIcon } from 'element-plus'
import { computed } from 'vue'
import { useRoute } from 'vue-router'
import { useHeldCount } from '../use/held'
import { useLive } from '../use/live'
import { useSession } from '../use/session'
import { useTheme } from '../use/theme'

const { person, service, may, load, leave } = useSession()
const route = useRoute()
const { theme, toggle } = useTheme()
// A role can be altered while somebody is here; what is offered follows at once.
const { connected } = useLive({ topics: (topic) => topic === 'people' && void load(), back: () => void load() })
const held = useHeldCount()
const liveText = computed(() => (connected.value ? 'live' : 'reconnecting'))
const otherTheme = computed(() => (theme.value === 'dark' ? 'light' : 'dark'))

const everybodys = [
  { to: '/', text: 'Overview', icon: DataBoard },
  { to: '/health', text: 'Health', icon: FirstAidKit },
  { to: '/servers', text: 'Servers', icon: Connection },
  { to: '/agents', text: 'Agents', icon: Collection },
  { to: '/reach', text: 'Reach', icon: Grid },
  { to: '/rules', text: 'Rules', icon: Stamp },
  { to: '/labels', text: 'Labels', icon: PriceTag },
  { to: '/budgets', text: 'Budgets', icon: Coin },
  { to: '/review', text: 'Review', icon: View },
  { to: '/held', text: 'Held calls', icon: AlarmClock },
  { to: '/try', text: 'Try', icon: VideoPlay },
  { to: '/statistics', text: 'Statistics', icon: TrendCharts },
  { to: '/journal', text: 'Journal', icon: List },
  { to: '/secrets', text: 'Secrets', icon: Key },
  { to: '/sign-ins', text: 'Sign-ins', icon: Ticket },
  { to: '/people', text: 'People', icon: User },
  { to: '/notices', text: 'Notices', icon: Bell },
]
const overseers = [
  { to: '/changes', text: 'Changes', icon: EditPen, action: 'changes.see' },
  { to: '/service', text: 'Service', icon: Odometer, action: 'service.see' },
]
const pages = computed(() => [...everybodys, ...overseers.filter((p) => may(p.action))])
</script>

<template>
  <nav class="rail" aria-label="Pages">
    <div class="name"><img src="/mark.svg" alt="" width="24" height="24" /> Bouncer</div>
    <RouterLink
      v-for="p in pages"
      :key="p.to"
      :to="p.to"
      :class="['item', { on: p.to === '/' ? route.path === '/' : route.path.startsWith(p.to) }]"
    >
      <ElIcon><component :is="p.icon" /></ElIcon>{{ p.text
      }}<span v-if="p.to === '/held' && held" class="count" :aria-label="`${held} wait for you`">{{ held }}</span>
    </RouterLink>
    <div class="grow" />
    <div class="foot">
      <div :class="['live', { off: !connected }]" role="status">
        <span aria-hidden="true">{{ connected ? '●' : '○' }}</span> {{ liveText }}
      </div>
      <div class="who">
        {{ person?.fullName }}<br /><span :title="service?.version">{{ person?.role }} · {{ service?.version.split('+')[0] }}</span>
      </div>
      <button class="item" type="button" @click="toggle">
        <ElIcon><component :is="theme === 'dark' ? Sunny : Moon" /></ElIcon>Go {{ otherTheme }}
      </button>
      <button class="item" type="button" @click="leave">
        <ElIcon><SwitchButton /></ElIcon>Sign out
      </button>
    </div>
  </nav>
</template>

<style scoped>
.rail {
  background: var(--rail);
  color: var(--rail-ink);
  display: flex;
  flex-direction: column;
  padding: 12px 10px;
  gap: 1px;
  overflow-y: auto;
  position: sticky;
  top: 0;
  height: 100vh;
}
.name {
  display: flex;
  align-items: center;
  gap: 9px;
  font-size: 16px;
  font-weight: 600;
  color: #fff;
  flex: none;
  padding: 2px 8px 12px;
}
.item {
  all: unset;
  display: flex;
  align-items: center;
  flex: none;
  gap: 9px;
  padding: 4px 9px;
  border-radius: 5px;
  color: var(--rail-ink);
  cursor: pointer;
}
.count {
  margin-left: auto;
  padding: 0 6px;
  border-radius: 8px;
  background: #d9a066;
  color: #1f3138;
  font-size: 11px;
  font-weight: 600;
}
.item:hover,
.item.on {
  background: var(--rail-on);
  color: #fff;
  text-decoration: none;
}
.item:focus-visible {
  outline: 2px solid #d9a066;
}
.grow {
  flex: 1;
}
.foot {
  border-top: 1px solid color-mix(in srgb, var(--rail-ink) 25%, transparent);
  flex: none;
  padding-top: 8px;
}
.live {
  padding: 0 9px 4px;
  font-size: 12px;
  color: #8fd0a8;
}
.live.off {
  color: #e8b274;
}
.who {
  padding: 0 9px 4px;
}
.who span {
  font-size: 12px;
  opacity: 0.75;
}
</style>
