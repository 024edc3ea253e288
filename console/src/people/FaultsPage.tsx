import Box from '@mui/material/Box'
import Button from '@mui/material/Button'
import Chip from '@mui/material/Chip'
import Link from '@mui/material/Link'
import TextField from '@mui/material/TextField'
import Typography from '@mui/material/Typography'
import { DataGrid, type GridColDef } from '@mui/x-data-grid'
import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { useDeferredValue, useState } from 'react'
import { Link as RouterLink } from 'react-router'
import { api } from '../api/api'
import { count, grouped, Page, Trouble } from '../pages/parts'
import { PeopleHead } from './PeopleHead'

const plain = { sortable: false, disableColumnMenu: true }

const columns: GridColDef[] = [
  {
    ...plain,
    field: 'mail',
    headerName: 'Person',
    width: 270,
    renderCell: (cell) => (
      <Link component={RouterLink} to={`/people/who/${encodeURIComponent(cell.value as string)}`}>
        {cell.value as string}
      </Link>
    ),
  },
  { ...plain, field: 'field', headerName: 'Field', width: 150 },
  {
    ...plain,
    field: 'value',
    headerName: 'Value',
    width: 240,
    renderCell: (cell) => <bdi>{(cell.value as string) || '–'}</bdi>,
  },
  { ...plain, field: 'says', headerName: 'What is wrong', flex: 1, minWidth: 240 },
  {
    ...plain,
    field: 'suggestion',
    headerName: 'Probably',
    width: 210,
    renderCell: (cell) => <bdi>{(cell.value as string) || '–'}</bdi>,
  },
]

/** What is wrong in the directory, value by value. */
export function FaultsPage() {
  const [kind, setKind] = useState('')
  const [search, setSearch] = useState('')
  const [page, setPage] = useState({ page: 0, pageSize: 50 })
  const text = useDeferredValue(search)
  const faults = useQuery({
    queryKey: ['faults', kind, text, page],
    queryFn: () => api.faults({ kind, search: text, offset: page.page * page.pageSize, limit: page.pageSize }),
    placeholderData: keepPreviousData,
  })
  const chosen = faults.data?.kinds.find((k) => k.id === kind)
  const choose = (id: string) => {
    setKind(id === kind ? '' : id)
    setPage({ ...page, page: 0 })
  }
  return (
    <Page wide>
      <PeopleHead
        title="Faults of the directory"
        actions={
          <>
            <TextField
              size="small"
              type="search"
              label="Search"
              value={search}
              onChange={(e) => {
                setSearch(e.target.value)
                setPage({ ...page, page: 0 })
              }}
            />
            <Button
              variant="outlined"
              href={`/api/v1/people/faults?${new URLSearchParams({ kind, search: text, format: 'csv' })}`}
            >
              Save as CSV
            </Button>
          </>
        }
      >
        {faults.data &&
          `${count(faults.data.all, 'fault', 'faults')} in the directory of ${count(faults.data.people, 'person', 'people')}. ` +
            'Send the list to whoever maintains the source; nothing is guessed where a guess could be wrong.'}
      </PeopleHead>
      <Trouble error={faults.error} />
      {faults.isPending && <Typography>Looking through everybody ...</Typography>}
      {faults.data && (
        <>
          <Box sx={{ display: 'flex', gap: 1, flexWrap: 'wrap', mb: 1.5 }} role="group" aria-label="Kinds of faults">
            {faults.data.kinds.map((k) => (
              <Chip
                key={k.id}
                label={`${k.title}: ${grouped(k.count)}`}
                variant={k.id === kind ? 'filled' : 'outlined'}
                color={k.id === kind ? 'primary' : 'default'}
                aria-pressed={k.id === kind}
                onClick={() => choose(k.id)}
              />
            ))}
          </Box>
          {chosen && (
            <Typography color="text.secondary" sx={{ mb: 1 }}>
              {chosen.why}
            </Typography>
          )}
          <Box sx={{ height: 'calc(100dvh - 330px)', minHeight: 320 }}>
            <DataGrid
              aria-label="Faults"
              rows={faults.data.faults}
              getRowId={(row) => `${row.mail} ${row.field} ${row.kind} ${row.value}`}
              columns={columns}
              density="compact"
              loading={faults.isFetching}
              rowCount={faults.data.total}
              paginationMode="server"
              paginationModel={page}
              onPaginationModelChange={setPage}
              pageSizeOptions={[50, 100]}
              disableRowSelectionOnClick
              sx={{ bgcolor: 'background.paper' }}
            />
          </Box>
        </>
      )}
    </Page>
  )
}
