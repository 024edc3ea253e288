import Autocomplete from '@mui/material/Autocomplete'
import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Dialog from '@mui/material/Dialog'
import DialogActions from '@mui/material/DialogActions'
import DialogContent from '@mui/material/DialogContent'
import DialogTitle from '@mui/material/DialogTitle'
import Link from '@mui/material/Link'
import MenuItem from '@mui/material/MenuItem'
import FormControlLabel from '@mui/material/FormControlLabel'
import Switch from '@mui/material/Switch'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { DataGrid, type GridColDef } from '@mui/x-data-grid'
import { keepPreviousData, useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useDeferredValue, useMemo, useRef, useState } from 'react'
import { Act, Lacking } from '../access/session'
import { api, type ImportPlan, type PeoplePage as PeopleData } from '../api/api'
import { Link as RouterLink } from 'react-router'
import { count, Page, Trouble, Warnings } from '../pages/parts'
import { PeopleHead } from './PeopleHead'
import { ChangeList, RunFacts } from './runs'

export function PeoplePage() {
  const [search, setSearch] = useState('')
  const [blank, setBlank] = useState('')
  const [left, setLeft] = useState(false)
  const [page, setPage] = useState({ page: 0, pageSize: 50 })
  const text = useDeferredValue(search)
  const people = useQuery({
    queryKey: ['people', text, page, blank, left],
    queryFn: () => api.people(text, page.page * page.pageSize, page.pageSize, { left, ...(blank ? { blank } : {}) }),
    placeholderData: keepPreviousData,
  })
  const [file, setFile] = useState<File | null>(null)
  const input = useRef<HTMLInputElement>(null)
  return (
    <Page wide>
      <PeopleHead
        title="People"
        actions={
          <>
            <TextField
              size="small"
              label="Search"
              value={search}
              type="search"
              onChange={(e) => {
                setSearch(e.target.value)
                setPage({ ...page, page: 0 })
              }}
            />
            <TextField
              select
              size="small"
              label="Blank"
              value={blank}
              sx={{ minWidth: 130 }}
              onChange={(e) => {
                setBlank(e.target.value)
                setPage({ ...page, page: 0 })
              }}
            >
              <MenuItem value="">any field</MenuItem>
              {people.data?.fields
                .filter((f) => f.blank > 0)
                .map((f) => (
                  <MenuItem key={f.name} value={f.name}>
                    {f.name} ({f.blank})
                  </MenuItem>
                ))}
            </TextField>
            {(people.data?.left ?? 0) > 0 && (
              <FormControlLabel
                control={<Switch checked={left} onChange={(e) => setLeft(e.target.checked)} />}
                label={`Who left (${people.data?.left})`}
              />
            )}
            <Act needs="people" variant="contained" onClick={() => input.current?.click()}>
              Import a file
            </Act>
            <input
              ref={input}
              type="file"
              accept=".csv,.ldif,.vcf,text/csv,text/vcard"
              hidden
              aria-label="File with people"
              onChange={(e) => {
                setFile(e.target.files?.[0] ?? null)
                e.target.value = ''
              }}
            />
          </>
        }
      >
        {people.data && <Figures data={people.data} search={text || blank || (left ? 'left' : '')} />}
      </PeopleHead>
      <Lacking permission="people">Changing people</Lacking>
      <Trouble error={people.error} />
      {people.data?.all === 0 ? (
        <Typography>
          Nobody is here yet. Import a CSV file whose first row names the fields; one of them must be mail.
        </Typography>
      ) : (
        people.data && <Grid data={people.data} page={page} onPage={setPage} loading={people.isFetching} />
      )}
      {file && <ImportDialog file={file} onClose={() => setFile(null)} />}
    </Page>
  )
}

function Figures({ data, search }: { data: PeopleData; search: string }) {
  return (
    <>
      {search
        ? `${count(data.total, 'person', 'people')} of ${data.all} found.`
        : `${count(data.all, 'person', 'people')} in the directory.`}{' '}
      A dotted cell is blank; the head of each column counts them.
    </>
  )
}

/** Widths of columns in pixels, where the usual one does not do. */
const widths: Record<string, number> = {
  mail: 270,
  cn: 200,
  title: 200,
  telephoneNumber: 180,
  preferredLanguage: 170,
  street: 180,
}

function Grid({
  data,
  page,
  onPage,
  loading,
}: {
  data: PeopleData
  page: { page: number; pageSize: number }
  onPage: (p: { page: number; pageSize: number }) => void
  loading: boolean
}) {
  const columns = useMemo<GridColDef[]>(
    () =>
      data.fields.map((field, i) => ({
        field: field.name,
        headerName: field.name,
        description: `${field.title}${field.source ? ` (${field.source})` : ''}; blank for ${field.blank} of ${data.all}`,
        minWidth: 110,
        width: widths[field.name] ?? 150,
        disableColumnMenu: true,
        sortable: false,
        valueGetter: (_value, row: { values: string[] }) => row.values[i] ?? '',
        renderHeader: () => (
          <Box sx={{ lineHeight: 1.25 }}>
            <Box sx={{ fontWeight: 600 }}>{field.name}</Box>
            <Box sx={{ color: 'text.secondary', fontSize: '0.8rem', fontWeight: 400 }}>
              {field.blank === 0 ? 'none blank' : `${field.blank} blank`}
            </Box>
          </Box>
        ),
        cellClassName: (cell) => (cell.value === '' ? 'blank' : ''),
        renderCell: (cell) =>
          cell.value === '' ? (
            <span>blank</span>
          ) : field.name === 'mail' ? (
            <Link component={RouterLink} to={`/people/who/${encodeURIComponent(cell.value as string)}`}>
              {cell.value as string}
            </Link>
          ) : (
            <bdi>{cell.value as string}</bdi>
          ),
      })),
    [data.fields, data.all],
  )
  return (
    <Box sx={{ height: 'calc(100dvh - 260px)', minHeight: 320 }}>
      <DataGrid
        aria-label="People"
        rows={data.people}
        getRowId={(row) => row.id}
        columns={columns}
        density="compact"
        loading={loading}
        rowCount={data.total}
        paginationMode="server"
        paginationModel={page}
        onPaginationModelChange={onPage}
        pageSizeOptions={[50, 100]}
        disableColumnFilter
        disableColumnSorting
        columnHeaderHeight={56}
        disableRowSelectionOnClick
        sx={{
          bgcolor: 'background.paper',
          '& .blank': {
            color: 'text.secondary',
            fontStyle: 'italic',
            opacity: 0.9,
            backgroundImage: 'radial-gradient(var(--mui-palette-divider) 1px, transparent 1px)',
            backgroundSize: '7px 7px',
          },
          '& .blank span': { bgcolor: 'background.paper', px: 0.5 },
        }}
      />
    </Box>
  )
}

/** Shows what a file would change, and imports it on request. */
function ImportDialog({ file, onClose }: { file: File; onClose: () => void }) {
  const [replace, setReplace] = useState(false)
  const [mapping, setMapping] = useState<Record<string, string>>({})
  const queries = useQueryClient()
  const plan = useQuery({
    queryKey: ['import', file.name, file.size, file.lastModified, replace, mapping],
    queryFn: () => api.importPeople(file, { replace, mapping }),
    placeholderData: keepPreviousData,
    gcTime: 0,
    staleTime: Infinity,
  })
  const apply = useMutation({
    mutationFn: ({ run }: ImportPlan) => api.applyRun(run.id, run.state === 'held'),
    onSuccess: () => {
      void queries.invalidateQueries()
      onClose()
    },
  })
  const run = plan.data?.run
  const changes = run ? run.new + run.joined + run.changed + run.gone + run.back : 0
  const [confirmed, setConfirmed] = useState(0)
  return (
    <Dialog open onClose={onClose} maxWidth="md" fullWidth aria-labelledby="import-title">
      <DialogTitle id="import-title">Import {file.name}</DialogTitle>
      <DialogContent>
        <Trouble error={plan.error ?? apply.error} />
        {plan.isPending && <Typography>Reading the file ...</Typography>}
        <Warnings of={plan.data?.note ? [plan.data.note] : undefined} />
        {plan.data && <ColumnMapping plan={plan.data} mapping={mapping} onChange={setMapping} />}
        {plan.data && <PlanView plan={plan.data} />}
        <FormControlLabel
          control={<Switch checked={replace} onChange={(e) => setReplace(e.target.checked)} />}
          label="People who are not in the file are gone"
        />
        {run?.state === 'held' && (
          <FormControlLabel
            control={
              <Switch checked={confirmed === run.id} onChange={(e) => setConfirmed(e.target.checked ? run.id : 0)} />
            }
            label="I looked at it: this is right"
          />
        )}
      </DialogContent>
      <DialogActions>
        <Button onClick={onClose}>Cancel</Button>
        <Button
          variant="contained"
          disabled={!plan.data || changes === 0 || apply.isPending || (run?.state === 'held' && confirmed !== run.id)}
          onClick={() => plan.data && apply.mutate(plan.data)}
        >
          {changes === 0 ? 'Nothing to import' : `Import ${count(changes, 'change', 'changes')}`}
        </Button>
      </DialogActions>
    </Dialog>
  )
}

/** What each column of the file is taken for; another field can be typed. */
function ColumnMapping({
  plan,
  mapping,
  onChange,
}: {
  plan: ImportPlan
  mapping: Record<string, string>
  onChange: (mapping: Record<string, string>) => void
}) {
  const fields = useQuery({ queryKey: ['fields'], queryFn: api.fields })
  const names = (fields.data?.fields ?? []).map((f) => f.name)
  return (
    <Box component="fieldset" sx={{ border: 0, p: 0, m: 0, mb: 2 }}>
      <Box component="legend" sx={{ fontWeight: 600, mb: 1 }}>
        What the columns are taken for
      </Box>
      <Box sx={{ display: 'flex', flexWrap: 'wrap', gap: 1.5 }}>
        {plan.columns
          .filter((c) => c.heading !== '')
          .map((c) => (
            <Autocomplete
              key={c.heading || c.field}
              freeSolo
              size="small"
              options={names}
              value={mapping[c.heading] ?? c.field}
              onChange={(_, field) => onChange({ ...mapping, [c.heading]: field ?? '' })}
              sx={{ width: 195 }}
              renderInput={(props) => (
                <TextField
                  {...props}
                  label={c.heading}
                  placeholder="left out"
                  helperText={c.heading in mapping ? undefined : c.note || (c.guessed ? 'guessed' : undefined)}
                />
              )}
            />
          ))}
      </Box>
    </Box>
  )
}

function PlanView({ plan }: { plan: ImportPlan }) {
  return (
    <Box sx={{ display: 'flex', flexDirection: 'column', gap: 1.5 }}>
      <RunFacts run={plan.run} />
      <ChangeList changes={plan.changes} />
    </Box>
  )
}
