import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import type { MailRule, MailRuleThen, TemplateSummary } from '../api/api'
import { Choice } from '../pages/parts'
import { ConditionSentence, Fragment, Words } from './conditions'

const states: [string, string][] = [
  ['on', 'on'],
  ['trial', 'in trial'],
  ['off', 'off'],
]
const places: [string, string][] = [
  ['newest', 'under the newest text'],
  ['end', 'at the very end'],
  ['top', 'above everything'],
  ['side', 'beside the newest text'],
]
const unsure: [string, string][] = [
  ['newest', 'still at the likeliest place'],
  ['end', 'at the very end'],
  ['top', 'above everything'],
  ['none', 'nowhere'],
]
const already: [string, string][] = [
  ['leave', 'the message stays as it is'],
  ['replace', 'it is replaced where it stands in the newest text'],
  ['short', 'the short form is put in'],
  ['add', 'that does not matter (for banners and disclaimers)'],
]
const closed: [string, string][] = [
  ['send', 'go out unchanged'],
  ['enclose', 'are enclosed in a message that carries the signature'],
  ['refuse', 'are refused with a notice'],
]
const text: [string, string][] = [
  ['text', 'gets the text form'],
  ['raise', 'becomes HTML'],
]
const failure: [string, string][] = [
  ['send', 'goes out unchanged and is reported'],
  ['hold', 'is held back until it can be'],
]
const pictures: [string, string][] = [
  ['hosted', 'are hosted'],
  ['carried', 'are carried in the message'],
]
const further: [string, string][] = [
  ['', 'no further rule is asked'],
  ['on', 'the rules behind it are asked too'],
]

interface Props {
  rule: MailRule
  audiences: [string, string][]
  templates: TemplateSummary[]
  onChange: (rule: MailRule) => void
}

/** A rule as a sentence with choices. */
export function RuleEditor({ rule, audiences, templates, onChange }: Props) {
  const set = (change: Partial<MailRule>) => onChange({ ...rule, ...change })
  const then = rule.then
  const setThen = (change: Partial<MailRuleThen>) => set({ then: { ...then, ...change } })
  const what = then.nothing ? ':nothing' : (then.template ?? '')
  const variants: [string, string][] = (templates.find((t) => t.name === then.template)?.variants ?? []).map((v) => [
    v,
    v,
  ])
  const name = rule.name
  return (
    <Box sx={{ display: 'grid', gap: 1.5, mt: 1 }}>
      <Line>
        <TextField
          size="small"
          label="Name"
          value={rule.name}
          onChange={(e) => set({ name: e.target.value })}
          sx={{ width: 190 }}
        />
        <TextField
          size="small"
          label="Title"
          value={rule.title ?? ''}
          onChange={(e) => set({ title: e.target.value || undefined })}
          sx={{ flex: 1, minWidth: 240 }}
        />
      </Line>
      <Line>
        It is
        <Choice
          inline
          label={`State of ${name}`}
          value={rule.state ?? 'on'}
          options={states}
          onChange={(state) =>
            set({ state: state as MailRule['state'], onFor: state === 'trial' ? rule.onFor : undefined })
          }
        />
        {rule.state === 'trial' && (
          <>
            and decides without changing anything, except for
            <Choice
              inline
              label={`${name} is on for`}
              value={rule.onFor ?? ''}
              blank="nobody"
              options={audiences}
              onChange={(onFor) => set({ onFor: onFor || undefined })}
            />
          </>
        )}
      </Line>
      {rule.state !== 'off' && (
        <Line>
          It holds from
          <Day label={`First day of ${name}`} value={rule.from} onChange={(from) => set({ from })} />
          until
          <Day label={`Last day of ${name}`} value={rule.until} onChange={(until) => set({ until })} />
        </Line>
      )}
      <Line>
        <strong>Mail</strong>
        <ConditionSentence
          of={rule.when ?? {}}
          name={`${name}, when`}
          audiences={audiences}
          onChange={(when) => set({ when: isBlank(when) ? undefined : when })}
        />
      </Line>
      {(rule.except ?? []).map((e, i) => (
        <Line key={i}>
          <strong>{i === 0 ? 'unless it is mail' : 'or mail'}</strong>
          <ConditionSentence
            of={e}
            name={`${name}, exception ${i + 1}`}
            audiences={audiences}
            onChange={(c) => {
              const list = (rule.except ?? []).map((old, at) => (at === i ? c : old)).filter((one) => !isBlank(one))
              set({ except: list.length ? list : undefined })
            }}
          />
        </Line>
      ))}
      <Line>
        <Button
          size="small"
          onClick={() => set({ except: [...(rule.except ?? []), { subject: ['[no signature]'] }] })}
          aria-label={`Add an exception to ${name}`}
        >
          + exception
        </Button>
      </Line>
      <Line>
        <Choice
          inline
          label={`What ${name} does`}
          value={what}
          options={[
            ['', 'gets what is assigned to its sender'],
            ...templates.map((t): [string, string] => [t.name, `gets the template ${t.title}`]),
            [':nothing', 'stays as it is'],
          ]}
          onChange={(v) =>
            setThen({
              nothing: v === ':nothing' || undefined,
              template: v && v !== ':nothing' ? v : undefined,
              variant: undefined,
              short: undefined,
            })
          }
        />
        {then.template && (
          <>
            in
            <Choice
              inline
              label={`Variant of ${name}`}
              value={then.variant ?? ''}
              blank="the variant of the situation"
              options={variants.map(([v]) => [v, `its variant ${v}`])}
              onChange={(variant) => setThen({ variant: variant || undefined })}
            />
          </>
        )}
        {!then.nothing && (
          <Choice
            inline
            label={`Place of ${name}`}
            value={then.place ?? 'newest'}
            options={places}
            onChange={(place) => setThen({ place: place as MailRuleThen['place'] })}
          />
        )}
      </Line>
      {!then.nothing && (
        <>
          <Line>
            Where the newest text is not certain, it is put
            <Choice
              inline
              label={`Where unsure of ${name}`}
              value={then.unsure ?? 'end'}
              options={unsure}
              onChange={(v) => setThen({ unsure: v as MailRuleThen['unsure'] })}
            />
          </Line>
          <Line>
            Where a signature of the sender stands there already,
            <Choice
              inline
              label={`If there is one already of ${name}`}
              value={then.already ?? 'leave'}
              options={already}
              onChange={(v) => setThen({ already: v as MailRuleThen['already'] })}
            />
            {then.already === 'short' && (
              <Fragment>
                :
                <Choice
                  inline
                  label={`Short form of ${name}`}
                  value={then.short ?? ''}
                  blank="choose a variant"
                  options={variants.length > 0 ? variants : allVariants(templates)}
                  onChange={(short) => setThen({ short: short || undefined })}
                />
              </Fragment>
            )}
          </Line>
          <Line>
            Signed and encrypted messages
            <Choice
              inline
              label={`Closed messages of ${name}`}
              value={then.closed ?? 'send'}
              options={closed}
              onChange={(v) => setThen({ closed: v as MailRuleThen['closed'] })}
            />
            {then.closed === 'refuse' && (
              <Words
                label={`Notice of ${name}`}
                audiences={audiences}
                placeholder="what the sender reads"
                value={then.notice ?? ''}
                onChange={(notice) => setThen({ notice: notice || undefined })}
              />
            )}
          </Line>
          <Line>
            Plain text
            <Choice
              inline
              label={`Plain text of ${name}`}
              value={then.text ?? 'text'}
              options={text}
              onChange={(v) => setThen({ text: v as MailRuleThen['text'] })}
            />
            {then.text === 'raise' && (
              <Fragment>
                in
                <Words
                  label={`Font of ${name}`}
                  audiences={audiences}
                  value={then.font ?? ''}
                  onChange={(font) => setThen({ font: font || undefined })}
                />
                of
                <Words
                  label={`Size of ${name}`}
                  audiences={audiences}
                  value={then.size ?? ''}
                  onChange={(size) => setThen({ size: size || undefined })}
                />
              </Fragment>
            )}
          </Line>
          <Line>
            Pictures
            <Choice
              inline
              label={`Pictures of ${name}`}
              value={then.pictures ?? ''}
              blank="are as the template says"
              options={pictures}
              onChange={(v) => setThen({ pictures: (v || undefined) as MailRuleThen['pictures'] })}
            />
          </Line>
          <Line>
            A message that cannot be changed
            <Choice
              inline
              label={`Failure of ${name}`}
              value={then.failure ?? 'send'}
              options={failure}
              onChange={(v) => setThen({ failure: v as MailRuleThen['failure'] })}
            />
          </Line>
        </>
      )}
      <Line>
        Where it applies,
        <Choice
          inline
          label={`Further rules after ${name}`}
          value={rule.goOn ? 'on' : ''}
          options={further}
          onChange={(v) => set({ goOn: v === 'on' || undefined })}
        />
      </Line>
    </Box>
  )
}

/** The variants of all templates, each once. */
function allVariants(templates: TemplateSummary[]): [string, string][] {
  return [...new Set(templates.flatMap((t) => t.variants))].map((v) => [v, v])
}

function isBlank(c: object): boolean {
  return Object.values(c).every((v) => v === undefined)
}

function Line({ children }: { children: React.ReactNode }) {
  return (
    <Typography
      component="div"
      sx={{ display: 'flex', flexWrap: 'wrap', alignItems: 'baseline', columnGap: 1, rowGap: 0.5, lineHeight: 2 }}
    >
      {children}
    </Typography>
  )
}

function Day({
  label,
  value,
  onChange,
}: {
  label: string
  value?: string
  onChange: (day: string | undefined) => void
}) {
  return (
    <TextField
      variant="standard"
      size="small"
      type="date"
      value={value ?? ''}
      slotProps={{ htmlInput: { 'aria-label': label } }}
      onChange={(e) => onChange(e.target.value || undefined)}
    />
  )
}
