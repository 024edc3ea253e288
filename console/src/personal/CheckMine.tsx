import Alert from '@mui/material/Alert'
import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Typography from '@mui/material/Typography'
import { useMutation, useQueryClient } from '@tanstack/react-query'
import { type ClipboardEvent, useRef, useState } from 'react'
import { useIntl } from 'react-intl'
import { api, type PersonalOverview, Refusal, type SignatureAnswer } from '../api/api'
import { useSay, useSayOf } from './language'

interface Props {
  overview: PersonalOverview
  client: string
  onInstall: () => void
}

/** Says whether what the person's program shows is right. What is pasted goes to the service once and stays nowhere. */
export function CheckMine({ overview, client, onInstall }: Props) {
  const say = useSay()
  const sayOf = useSayOf()
  const intl = useIntl()
  const queries = useQueryClient()
  const file = useRef<HTMLInputElement>(null)
  const [tooLarge, setTooLarge] = useState(false)
  const check = useMutation({
    mutationFn: api.checkSignature,
    onSuccess: () => queries.invalidateQueries({ queryKey: ['overview'] }),
  })
  const paste = (event: ClipboardEvent) => {
    event.preventDefault()
    const html = event.clipboardData.getData('text/html')
    const text = event.clipboardData.getData('text/plain')
    if (html || text) check.mutate({ client, html, text })
  }
  const choose = async (chosen: File | undefined) => {
    if (!chosen) return
    setTooLarge(chosen.size > mostBytes)
    if (chosen.size <= mostBytes) check.mutate({ client, message: await base64(chosen) })
  }
  const last = overview.proofs.filter((p) => p.client === client)
  const unread = check.error instanceof Refusal && [413, 422].includes(check.error.status)
  return (
    <section aria-label={say('tab.check')}>
      <Typography sx={{ mb: 2 }}>{say('check.about')}</Typography>
      {!check.data && (
        <>
          <Box
            role="textbox"
            aria-label={say('check.box')}
            aria-multiline
            tabIndex={0}
            contentEditable
            suppressContentEditableWarning
            onPaste={paste}
            onInput={(event) => {
              event.currentTarget.textContent = ''
            }}
            onDrop={(event) => {
              event.preventDefault()
              void choose(event.dataTransfer.files[0])
            }}
            sx={{
              border: '2px dashed',
              borderColor: 'text.secondary',
              borderRadius: 1,
              minHeight: 120,
              p: 2,
              mb: 2,
              '&:focus': { outline: '2px solid', outlineColor: 'primary.main' },
              '&:empty::before': { content: `"${say('check.box')}"`, color: 'text.secondary' },
            }}
          />
          <input
            ref={file}
            type="file"
            accept=".eml,message/rfc822"
            hidden
            onChange={(event) => void choose(event.target.files?.[0])}
          />
          <Button variant="outlined" onClick={() => file.current?.click()}>
            {say('check.file')}
          </Button>
        </>
      )}
      <Box role="status" sx={{ mt: 2 }}>
        {check.isPending && say('check.working')}
        {(unread || tooLarge) && <Alert severity="warning">{say('state.unread')}</Alert>}
        {check.error && !unread && <Alert severity="error">{check.error.message}</Alert>}
        {check.data && <Verdict answer={check.data} />}
      </Box>
      {check.data && (
        <Box sx={{ display: 'flex', gap: 1, mt: 2 }}>
          {check.data.state !== 'right' && (
            <Button variant="contained" onClick={onInstall}>
              {say('tab.install')}
            </Button>
          )}
          <Button onClick={() => check.reset()}>{say('check.again')}</Button>
        </Box>
      )}
      {last.length > 0 && (
        <Box component="ul" sx={{ mt: 3, pl: 0, listStyle: 'none', color: 'text.secondary' }}>
          {last.map((p) => (
            <Typography component="li" variant="body2" key={p.situation + p.way}>
              {sayOf('use', p.situation)}.{' '}
              {say('proof.at', {
                when: intl.formatDate(p.at, { dateStyle: 'medium', timeStyle: 'short' }),
                state: sayOf('short', p.state),
              })}{' '}
              {p.way === 'add-on' && p.kinds.map((k) => sayOf('kind', k)).join(' ')}
            </Typography>
          ))}
        </Box>
      )}
    </section>
  )
}

const severities = {
  right: 'success',
  older: 'warning',
  altered: 'warning',
  incomplete: 'warning',
  another: 'error',
  none: 'info',
  unread: 'warning',
} as const

function Verdict({ answer }: { answer: SignatureAnswer }) {
  const say = useSay()
  const sayOf = useSayOf()
  const told = answer.sorts.map((sort) => ({
    sort,
    difference: answer.differences.find((d) => d.kind === sort.kind && !d.usual),
  }))
  return (
    <>
      <Alert severity={severities[answer.state]} sx={{ mb: 1 }}>
        {say(`state.${answer.state}`)}
      </Alert>
      {told.length > 0 && (
        <Box component="ul" sx={{ pl: 0, m: 0, listStyle: 'none' }}>
          {told.map(({ sort, difference: d }) => (
            <Box component="li" key={sort.kind} sx={{ py: 1.5, borderBottom: 1, borderColor: 'divider' }}>
              <Typography sx={{ fontWeight: 600 }}>{sayOf('kind', sort.kind)}</Typography>
              {d?.where && (
                <Typography variant="body2" dir="auto">
                  {say('diff.where', { where: d.where })}
                </Typography>
              )}
              {d?.want && d.found && (
                <Typography variant="body2">{say('diff.be', { want: d.want, found: d.found })}</Typography>
              )}
              <Typography variant="body2" color="text.secondary">
                {say('diff.by', { by: sayOf('cause', sort.cause) })}
              </Typography>
              <Typography>{sayOf('do', sort.step)}</Typography>
            </Box>
          ))}
        </Box>
      )}
    </>
  )
}

const mostBytes = 20 << 20

/** A file as the service takes it in JSON. */
async function base64(file: File): Promise<string> {
  const bytes = new Uint8Array(await file.arrayBuffer())
  let text = ''
  for (let i = 0; i < bytes.length; i += 0x8000) text += String.fromCharCode(...bytes.subarray(i, i + 0x8000))
  return btoa(text)
}
