/* The add-on's texts in the language of the browser, and small pieces that its pages share. */

/** A text by its name, with what stands for $1 and so on. */
export const say = (name, ...with_) => chrome.i18n.getMessage(name.replaceAll('-', '_'), with_.map(String))

/** An element with texts and elements in it. */
export function element(tag, attributes = {}, ...inside) {
  const made = document.createElement(tag)
  for (const [name, value] of Object.entries(attributes)) {
    if (name === 'press') made.addEventListener('click', value)
    else made.setAttribute(name, value)
  }
  made.append(...inside)
  return made
}

/** Readies a page: its language, direction and title. */
export function page(title) {
  document.documentElement.lang = say('lang')
  document.documentElement.dir = say('dir')
  document.title = say(title)
}

/** A moment in the person's own way of writing it. */
export const when = (ms) =>
  new Date(ms).toLocaleString(chrome.i18n.getUILanguage(), { dateStyle: 'medium', timeStyle: 'short' })
