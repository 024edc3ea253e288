import createCache from '@emotion/cache'
import { CacheProvider } from '@emotion/react'
import rtl from '@mui/stylis-plugin-rtl'
import CssBaseline from '@mui/material/CssBaseline'
import { createTheme, ThemeProvider } from '@mui/material/styles'
import { createContext, type ReactNode, use, useCallback, useEffect, useMemo, useState } from 'react'
import { IntlProvider, useIntl } from 'react-intl'
import { prefixer } from 'stylis'
import { theme } from '../theme'
import ar from './messages/ar.json'
import de from './messages/de.json'
import el from './messages/el.json'
import en from './messages/en.json'
import sv from './messages/sv.json'

const messages = { en, de, sv, el, ar }
export type Language = keyof typeof messages
export type MessageID = keyof typeof en

/** The languages of the page, with their own names. */
export const languages: Record<Language, string> = {
  en: 'English',
  de: 'Deutsch',
  sv: 'Svenska',
  el: 'Ελληνικά',
  ar: 'العربية',
}

const isLanguage = (text: string | undefined): text is Language => text !== undefined && text in messages

/** The first language that the browser asks for and that the page has. */
export function ofBrowser(): Language {
  return navigator.languages.map((l) => l.split('-')[0]).find(isLanguage) ?? 'en'
}

const caches = {
  ltr: createCache({ key: 'mui' }),
  rtl: createCache({ key: 'muirtl', stylisPlugins: [prefixer, rtl] }),
}

const SpokenContext = createContext<{ language: Language; speak: (language: string) => void }>({
  language: 'en',
  speak: () => undefined,
})

/** The language that is spoken, and how to change it. */
export const useSpoken = () => use(SpokenContext)

/** Gives the page its language and direction. */
export function Speaking({ children }: { children: ReactNode }) {
  const [language, setLanguage] = useState<Language>(ofBrowser)
  const direction = language === 'ar' ? 'rtl' : 'ltr'
  useEffect(() => {
    document.documentElement.lang = language
    document.documentElement.dir = direction
    document.title = messages[language].title
  }, [language, direction])
  const turned = useMemo(() => createTheme(theme, { direction }), [direction])
  const speak = useCallback((wanted: string) => {
    if (isLanguage(wanted)) setLanguage(wanted)
  }, [])
  const spoken = useMemo(() => ({ language, speak }), [language, speak])
  return (
    <SpokenContext value={spoken}>
      <IntlProvider locale={language === 'ar' ? 'ar-u-nu-latn' : language} messages={messages[language]}>
        <CacheProvider value={caches[direction]}>
          <ThemeProvider theme={turned} defaultMode="system">
            <CssBaseline />
            {children}
          </ThemeProvider>
        </CacheProvider>
      </IntlProvider>
    </SpokenContext>
  )
}

/** Says a message in the page's language. */
export function useSay() {
  const intl = useIntl()
  return (id: MessageID, values?: Record<string, string | number>) =>
    intl.formatMessage({ id }, values, { ignoreTag: true })
}

/** Says a message whose name is put together; what it is of where there is none. */
export function useSayOf() {
  const intl = useIntl()
  return (group: string, name: string) => {
    const id = `${group}.${name}`
    return id in en ? intl.formatMessage({ id }, undefined, { ignoreTag: true }) : name
  }
}
