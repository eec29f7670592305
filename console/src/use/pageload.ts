import { ref } from 'vue'

/** What is kept between two loads of the console. */
export type Kept = Pick<Storage, 'getItem' | 'setItem' | 'removeItem'>

const mark = 'page-loaded-again'

/** missing is the path of a page that could not be loaded; '' for none. */
export const missing = ref('')

/**
 * pageFailed takes that a page's own part of the console could not be loaded. After an update of the service its
 * parts have other names: the whole is loaded once more, and when that does not help, the page says so.
 */
export function pageFailed(path: string, kept: Kept, load: (path: string) => void) {
  if (kept.getItem(mark) === path) {
    missing.value = path
    return
  }
  kept.setItem(mark, path)
  load(path)
}

/** pageLoaded takes that a page is there. */
export function pageLoaded(kept: Kept) {
  kept.removeItem(mark)
  missing.value = ''
}
