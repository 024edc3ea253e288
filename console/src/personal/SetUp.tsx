import Accordion from '@mui/material/Accordion'
import AccordionDetails from '@mui/material/AccordionDetails'
import AccordionSummary from '@mui/material/AccordionSummary'
import Alert from '@mui/material/Alert'
import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import ToggleButton from '@mui/material/ToggleButton'
import ToggleButtonGroup from '@mui/material/ToggleButtonGroup'
import Typography from '@mui/material/Typography'
import { useMutation, useQuery } from '@tanstack/react-query'
import { useRef, useState } from 'react'
import { useIntl } from 'react-intl'
import { api, type PersonalOverview, type PreparedSignature } from '../api/api'
import { download } from '../workbench/download'
import { AddOn } from './AddOn'
import { copy, type Engine, engine, mark } from './clipboard'
import { useSay, useSayOf } from './language'
import { LookBox } from './LookBox'
import { type StepDef, stepsOf } from './steps'
import { StepDrawing } from './drawings'

type Program = PersonalOverview['programs'][number]

/** Everything for one program: how the signature looks, and the steps one after the other. */
export function SetUp({
  overview,
  program,
  onCheck,
}: {
  overview: PersonalOverview
  program: Program
  onCheck: () => void
}) {
  const say = useSay()
  const sayOf = useSayOf()
  const uses = overview.uses.filter((u) => u.signature && !u.sameAs)
  const [situation, setSituation] = useState(uses[0]?.situation ?? 'new')
  const signature = useQuery({
    queryKey: ['signature', program.id, situation, overview.release],
    queryFn: () => api.prepareSignature({ client: program.id, situation }),
  })
  if (uses.length === 0) return <Alert severity="info">{say('use.none')}</Alert>
  const same = overview.uses.find((u) => u.sameAs === situation)
  return (
    <>
      {uses.length > 1 && (
        <ToggleButtonGroup
          exclusive
          size="small"
          value={situation}
          onChange={(_, value: string | null) => value && setSituation(value)}
          aria-label={say('look.title')}
          sx={{ mb: 1, flexWrap: 'wrap' }}
        >
          {uses.map((u) => (
            <ToggleButton key={u.situation} value={u.situation}>
              {sayOf('use', u.situation)}
            </ToggleButton>
          ))}
        </ToggleButtonGroup>
      )}
      {same && (
        <Typography variant="body2" color="text.secondary" sx={{ mb: 1 }}>
          {sayOf('use', same.situation)}: {say('use.same', { other: sayOf('use', situation) })}
        </Typography>
      )}
      {signature.error && <Alert severity="error">{signature.error.message}</Alert>}
      {signature.data && (
        <Box
          sx={{
            display: 'grid',
            gridTemplateColumns: { xs: 'minmax(0, 1fr)', md: 'minmax(0, 5fr) minmax(0, 6fr)' },
            columnGap: 5,
            rowGap: 3,
            mt: 2,
          }}
        >
          <div>
            <Steps
              key={situation}
              program={program}
              signature={signature.data}
              onCheck={overview.changes ? onCheck : undefined}
            />
          </div>
          <div>
            <LookBox signature={signature.data} />
            <OtherWays signature={signature.data} />
            <AddOn changes={overview.changes} />
          </div>
        </Box>
      )}
    </>
  )
}

/** Which form is copied, and what is to be said before. */
function formOf(s: PreparedSignature, own: Engine) {
  const paste = (form: PreparedSignature['whole']) => form.pastes.find((p) => p.engine === own) ?? form.pastes[0]
  const whole = paste(s.whole)
  const shorter = paste(s.shorter)
  const over = s.limit > 0 && whole && whole.characters > s.limit
  const short = Boolean(over && shorter && shorter.characters < whole.characters)
  return {
    form: short ? s.shorter : s.whole,
    whole,
    shorter,
    over,
    short,
    fits: !over || (shorter !== undefined && shorter.characters <= s.limit),
  }
}

function Steps({
  program,
  signature,
  onCheck,
}: {
  program: Program
  signature: PreparedSignature
  onCheck?: () => void
}) {
  const say = useSay()
  const [at, setAt] = useState(0)
  const steps = stepsOf(program.way)
  const current = useRef<HTMLLIElement>(null)
  const go = (to: number) => {
    setAt(to)
    requestAnimationFrame(() => current.current?.focus())
  }
  return (
    <section aria-label={say('tab.install')}>
      <Box component="ol" sx={{ listStyle: 'none', p: 0, m: 0 }}>
        {steps.map((step, i) => (
          <Box
            component="li"
            key={step.say}
            ref={i === at ? current : undefined}
            tabIndex={i === at ? -1 : undefined}
            aria-current={i === at ? 'step' : undefined}
            sx={{
              display: 'flex',
              gap: 2,
              py: i === at ? 2 : 1.25,
              px: i === at ? 2 : 1,
              borderInlineStart: '3px solid',
              borderColor: i === at ? 'primary.main' : 'divider',
              bgcolor: i === at ? 'background.paper' : undefined,
              outline: 'none',
            }}
          >
            <StepDrawing drawing={i < at ? 'save' : step.drawing} strong={i === at} />
            <Box sx={{ flexGrow: 1, minWidth: 0 }}>
              <Typography variant="body2" color="text.secondary">
                {say('step.of', { n: i + 1, all: steps.length })}
              </Typography>
              <Typography color={i > at ? 'text.secondary' : undefined} sx={{ mb: i === at ? 1.5 : 0 }}>
                {say(step.say)}
              </Typography>
              {i === at && (
                <StepAction
                  step={step}
                  program={program}
                  signature={signature}
                  onDone={() => go(i + 1)}
                  onBack={i > 0 ? () => go(i - 1) : undefined}
                  onCheck={onCheck}
                />
              )}
            </Box>
          </Box>
        ))}
      </Box>
    </section>
  )
}

interface ActionProps {
  step: StepDef
  program: Program
  signature: PreparedSignature
  onDone: () => void
  onBack?: () => void
  onCheck?: () => void
}

/** The one button that is needed now. */
function StepAction({ step, program, signature, onDone, onBack, onCheck }: ActionProps) {
  const say = useSay()
  return (
    <Box sx={{ display: 'flex', flexDirection: 'column', alignItems: 'flex-start', gap: 1.5 }}>
      {step.does === 'copy' && <CopyButton signature={signature} onDone={onDone} />}
      {step.does === 'source' && <CopySource signature={signature} onDone={onDone} />}
      {step.does === 'files' && <FilesButton program={program} onDone={onDone} />}
      {step.does === 'picture' && <PictureFields situation={signature.situation} />}
      <Box sx={{ display: 'flex', flexWrap: 'wrap', gap: 1 }}>
        {step.does === 'check'
          ? onCheck && (
              <Button variant="contained" onClick={onCheck}>
                {say('tab.check')}
              </Button>
            )
          : !['copy', 'source', 'files'].includes(step.does) && (
              <Button variant="contained" onClick={onDone}>
                {say('next')}
              </Button>
            )}
        {onBack && <Button onClick={onBack}>{say('back')}</Button>}
      </Box>
    </Box>
  )
}

function CopyButton({ signature, onDone }: { signature: PreparedSignature; onDone: () => void }) {
  const say = useSay()
  const intl = useIntl()
  const sayOf = useSayOf()
  const [own] = useState(engine)
  const [byHand, setByHand] = useState(false)
  const [done, setDone] = useState(false)
  const box = useRef<HTMLDivElement>(null)
  const { form, whole, shorter, over, short, fits } = formOf(signature, own)
  const spoils = form.pastes.find((p) => p.engine === own)?.spoils ?? []
  const better = form.pastes.find((p) => p.engine !== own && p.spoils.length < spoils.length)
  const n = (value?: number) => intl.formatNumber(value ?? 0)
  const press = async () => {
    if (await copy(signature.text, form.html)) {
      setDone(true)
      setTimeout(onDone, 700)
      return
    }
    setByHand(true)
    requestAnimationFrame(() => box.current && mark(box.current))
  }
  return (
    <>
      {signature.limit > 0 && whole && (
        <Typography variant="body2" color="text.secondary">
          {!over && say('length.within', { n: n(whole.characters), limit: n(signature.limit) })}
        </Typography>
      )}
      {over && (
        <Alert severity={fits ? 'info' : 'warning'}>
          {say(fits ? 'length.shorter' : 'length.over', {
            n: n(whole?.characters),
            m: n(shorter?.characters),
            limit: n(signature.limit),
          })}
        </Alert>
      )}
      {own === 'unknown' && form.pastes.length > 0 && <Alert severity="info">{say('browser.unknown')}</Alert>}
      {better && (
        <Alert severity="warning">
          {say('browser.spoils', {
            what: spoils.map((d) => sayOf('kind', d.kind)).join(' '),
            engine: better.engine === 'gecko' ? 'Gecko' : 'Chromium',
          })}
        </Alert>
      )}
      <Button variant="contained" size="large" onClick={() => void press()}>
        {say(short ? 'copy.shorter' : 'copy')}
      </Button>
      <Typography role="status" variant="body2">
        {done && say('copy.done')}
        {byHand && say('copy.byHand')}
      </Typography>
      {byHand && (
        <>
          <Box ref={box} sx={{ all: 'initial', display: 'block' }} dangerouslySetInnerHTML={{ __html: form.html }} />
          <Button variant="contained" onClick={onDone}>
            {say('next')}
          </Button>
        </>
      )}
    </>
  )
}

function CopySource({ signature, onDone }: { signature: PreparedSignature; onDone?: () => void }) {
  const say = useSay()
  const [done, setDone] = useState(false)
  return (
    <>
      <Button
        variant={onDone ? 'contained' : 'outlined'}
        onClick={() =>
          void copy(signature.whole.html).then((ok) => {
            setDone(ok)
            if (ok && onDone) setTimeout(onDone, 700)
          })
        }
      >
        {say('copy.source')}
      </Button>
      <Typography role="status" variant="body2">
        {done && say(onDone ? 'copy.done' : 'copy.oneDone')}
      </Typography>
    </>
  )
}

function FilesButton({ program, onDone }: { program: Program; onDone: () => void }) {
  const say = useSay()
  const get = useMutation({
    mutationFn: (signed: boolean) => api.personalFiles(program.id, signed),
    onSuccess: (file, signed) => {
      download(file)
      if (!signed) onDone()
    },
  })
  return (
    <>
      {get.error && <Alert severity="error">{get.error.message}</Alert>}
      <Button variant="contained" loading={get.isPending} onClick={() => get.mutate(false)}>
        {say('files.get')}
      </Button>
      <Typography variant="body2" color="text.secondary" sx={{ overflowWrap: 'anywhere' }}>
        {say('files.desk')}{' '}
        <code dir="ltr">{`unzip kit-${program.id}.zip -d kit && missivum desk place kit --trust kit/missivum.pub`}</code>
      </Typography>
      <Button size="small" onClick={() => get.mutate(true)}>
        {say('files.kit')}
      </Button>
    </>
  )
}

/** Address, link and text of the signature as one picture, each with a button of its own. */
function PictureFields({ situation }: { situation: string }) {
  const say = useSay()
  const picture = useMutation({ mutationFn: () => api.personalPicture(situation) })
  if (!picture.data)
    return (
      <>
        {picture.error && <Alert severity="info">{picture.error.message}</Alert>}
        <Button variant="outlined" loading={picture.isPending} onClick={() => picture.mutate()}>
          {say('picture.make')}
        </Button>
      </>
    )
  const p = picture.data
  return (
    <Box component="dl" sx={{ m: 0, width: '100%' }}>
      <Field label={say('picture.address')} value={p.address} />
      {p.link && <Field label={say('picture.link')} value={p.link} />}
      <Field label={say('picture.alt')} value={p.alt} />
      <Field label={say('picture.size')} value={`${p.width} × ${p.height} px`} />
    </Box>
  )
}

function Field({ label, value }: { label: string; value: string }) {
  const say = useSay()
  const [done, setDone] = useState(false)
  return (
    <Box sx={{ display: 'flex', gap: 1, alignItems: 'baseline', py: 0.5 }}>
      <Typography component="dt" variant="body2" sx={{ minWidth: 120, fontWeight: 600 }}>
        {label}
      </Typography>
      <Typography component="dd" variant="body2" dir="auto" sx={{ m: 0, flexGrow: 1, overflowWrap: 'anywhere' }}>
        {value}
      </Typography>
      <Button size="small" aria-label={`${say('copy.one')}: ${label}`} onClick={() => void copy(value).then(setDone)}>
        {say(done ? 'copy.oneDone' : 'copy.one')}
      </Button>
    </Box>
  )
}

function OtherWays({ signature }: { signature: PreparedSignature }) {
  const say = useSay()
  const [done, setDone] = useState(false)
  return (
    <Accordion
      disableGutters
      elevation={0}
      sx={{
        mt: 3,
        bgcolor: 'transparent',
        borderTop: 1,
        borderBottom: 1,
        borderColor: 'divider',
        '&::before': { display: 'none' },
      }}
    >
      <AccordionSummary expandIcon={<span aria-hidden>▾</span>} id="more">
        <Typography component="span">{say('more')}</Typography>
      </AccordionSummary>
      <AccordionDetails sx={{ display: 'flex', flexDirection: 'column', alignItems: 'flex-start', gap: 1.5 }}>
        <Typography variant="body2">{say('more.source')}</Typography>
        <CopySource signature={signature} />
        <Typography variant="body2">{say('more.picture')}</Typography>
        <PictureFields situation={signature.situation} />
        <Typography variant="body2">{say('more.text')}</Typography>
        <Button variant="outlined" onClick={() => void copy(signature.text).then(setDone)}>
          {say(done ? 'copy.oneDone' : 'copy.one')}
        </Button>
      </AccordionDetails>
    </Accordion>
  )
}
