import { ref } from 'vue'

/** useFilter keeps the text that a list is filtered by, and tells what matches it, in whatever case. */
export function useFilter(start = '') {
  const filter = ref(start)
  function match(...texts: (string | undefined)[]): boolean {
    const wanted = filter.value.trim().toLowerCase()
    return wanted === '' || texts.some((t) => t?.toLowerCase().includes(wanted))
  }
  /** among are the items of a list of which one of the texts matches. */
  const among = <T>(list: T[] | undefined, texts: (item: T) => (string | undefined)[]) =>
    (list ?? []).filter((item) => match(...texts(item)))
  return { filter, match, among }
}
