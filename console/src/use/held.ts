import { computed, ref, watch } from 'vue'
import { useRoute } from 'vue-router'
import { heldCalls, type HeldCall } from '../api'
import { useLive } from './live'

/** Calls that wait until somebody decides, for every page: the rail counts them, the title tells, a sound can be had. */
const waiting = ref<HeldCall[]>([])
const mine = computed(() => waiting.value.filter((c) => c.mine).length)
const loud = ref(localStorage.getItem('bouncer.held.sound') === 'on')
let known = new Set<string>()
let begun = false

async function load() {
  const list = await heldCalls(true).catch(() => undefined)
  if (!list) return
  const fresh = list.filter((c) => c.mine && !known.has(c.id))
  known = new Set(list.map((c) => c.id))
  waiting.value = list
  if (begun && loud.value && fresh.length > 0) ring()
  begun = true
}

/** ring plays two short tones, so that somebody who looks elsewhere hears of a call that waits. */
function ring() {
  const audio = new AudioContext()
  ;[0, 0.18].forEach((at, i) => {
    const tone = audio.createOscillator()
    const volume = audio.createGain()
    tone.frequency.value = i === 0 ? 660 : 880
    volume.gain.setValueAtTime(0.15, audio.currentTime + at)
    volume.gain.exponentialRampToValueAtTime(0.001, audio.currentTime + at + 0.16)
    tone.connect(volume).connect(audio.destination)
    tone.start(audio.currentTime + at)
    tone.stop(audio.currentTime + at + 0.17)
    if (i === 1) tone.onended = () => void audio.close()
  })
}

/** useHeldCount keeps the count for as long as the rail is there, and tells it in the title. */
export function useHeldCount() {
  const route = useRoute()
  useLive({ topics: (t) => t === 'held' && void load(), back: () => void load() })
  void load()
  watch([mine, () => route.fullPath], () => {
    const plain = document.title.replace(/^\(\d+\) /, '')
    document.title = mine.value > 0 ? `(${mine.value}) ${plain}` : plain
  })
  return mine
}

/** useHeldSound is whether a sound is played when a call begins to wait. */
export function useHeldSound() {
  watch(loud, (on) => {
    localStorage.setItem('bouncer.held.sound', on ? 'on' : 'off')
    if (on) ring()
  })
  return loud
}
