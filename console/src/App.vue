<script setup lang="ts">
import { ElButton } from 'element-plus'
import { computed, onMounted, ref, watch } from 'vue'
import { useRoute } from 'vue-router'
import InvitationPage from './pages/InvitationPage.vue'
import SignInPage from './pages/SignInPage.vue'
import NavRail from './parts/NavRail.vue'
import { closeLive, openLive } from './use/live'
import { useSilentNodes } from './use/nodes'
import { missing } from './use/pageload'
import { useSession } from './use/session'

const { person, load } = useSession()
const { silent } = useSilentNodes()
const route = useRoute()
const ready = ref(false)
const unreachable = ref(false)
const invited = computed(() => /^\/invitation\/(.+)$/.exec(route.path)?.[1])

async function begin() {
  try {
    await load()
    unreachable.value = false
    ready.value = true
  } catch {
    unreachable.value = true
    window.setTimeout(begin, 3000)
  }
}
onMounted(begin)
const again = () => location.assign(missing.value)
watch(
  () => person.value && !person.value.mustChange,
  (inside) => (inside ? openLive() : closeLive()),
)
</script>

<template>
  <div v-if="unreachable" class="cover" role="alert">
    <div>
      <h1>Bouncer cannot be reached</h1>
      <p class="soft">Check that the service is running. This page tries again every few seconds.</p>
    </div>
  </div>
  <template v-else-if="ready">
    <InvitationPage v-if="invited" :token="invited" />
    <SignInPage v-else-if="!person || person.mustChange" />
    <div v-else class="frame">
      <a class="skip" href="#main">Skip to the content</a>
      <NavRail />
      <main id="main" tabindex="-1">
        <p v-if="silent" class="missing" role="status">
          <strong>{{ silent }}</strong> did not answer, so what is recorded there is missing.
          <RouterLink to="/service">See the nodes</RouterLink>
        </p>
        <section v-if="missing" class="sheet pad" role="alert">
          <h1>This page could not be loaded</h1>
          <p>Bouncer is out of reach, or was updated a moment ago.</p>
          <ElButton type="primary" @click="again">Load it again</ElButton>
        </section>
        <RouterView v-else />
      </main>
    </div>
  </template>
</template>

<style scoped>
.missing {
  margin: 0 0 12px;
  padding: 6px 10px;
  border-left: 3px solid var(--warn);
  background: var(--sheet);
}
.frame {
  display: grid;
  grid-template-columns: 172px minmax(0, 1fr);
  min-height: 100vh;
}
main {
  padding: 18px 22px 40px;
  outline: none;
}
.cover {
  min-height: 100vh;
  display: grid;
  place-items: center;
  text-align: center;
}
.skip {
  position: absolute;
  left: -999px;
}
.skip:focus {
  left: 8px;
  top: 8px;
  background: var(--sheet);
  padding: 6px 10px;
  z-index: 10;
}
</style>
