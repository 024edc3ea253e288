import { useState } from 'react'

const key = 'missivum author'

/** Who saves: asked once in each browser. */
export function useAuthor(): [string, (author: string) => void] {
  const [author, setAuthor] = useState(() => localStorage.getItem(key) ?? '')
  return [author, (next) => {
    localStorage.setItem(key, next)
    setAuthor(next)
  }]
}
