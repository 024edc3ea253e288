/* The key of the person, in the add-on's own database: pages in which the add-on runs cannot read it. */

function open() {
  return new Promise((done, failed) => {
    const request = indexedDB.open('key', 1)
    request.onupgradeneeded = () => request.result.createObjectStore('key')
    request.onsuccess = () => done(request.result)
    request.onerror = () => failed(request.error)
  })
}

function within(mode, work) {
  return open().then(
    (db) =>
      new Promise((done, failed) => {
        const transaction = db.transaction('key', mode)
        const request = work(transaction.objectStore('key'))
        transaction.oncomplete = () => (db.close(), done(request.result))
        transaction.onerror = () => (db.close(), failed(transaction.error))
      }),
  )
}

/** The key that was pasted; blank for none. */
export const readKey = () => within('readonly', (keys) => keys.get('own')).then((key) => key ?? '')

/** Keeps a key. */
export const writeKey = (key) => within('readwrite', (keys) => keys.put(key, 'own'))
