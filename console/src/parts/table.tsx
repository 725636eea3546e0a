import { createColumnHelper, flexRender, getCoreRowModel, getSortedRowModel, useReactTable, type SortingState } from '@tanstack/react-table'
import { useMemo, useState, type ReactNode } from 'react'

export interface Column<T> {
  head: string
  cell: (row: T) => ReactNode
  /** What rows are put in order by; without it they are not. */
  by?: (row: T) => string | number
  /** Whether it names the row. */
  names?: boolean
  /** Long words may break. */
  breaks?: boolean
}

interface Props<T> {
  label: string
  columns: Column<T>[]
  rows: T[]
  name: (row: T) => string
}

const ORDER = { asc: 'ascending', desc: 'descending' } as const

/** Rows under heads; a head that has an order puts the rows in it. On a narrow screen it scrolls by itself. */
export function Table<T>({ label, columns, rows, name }: Props<T>) {
  const [sorting, setSorting] = useState<SortingState>([])
  const made = useMemo(() => {
    const helper = createColumnHelper<T>()
    return columns.map((column, place) =>
      helper.accessor((row: T) => column.by?.(row) ?? '', {
        id: String(place),
        header: column.head === '' ? 'Actions' : column.head,
        cell: ({ row }) => column.cell(row.original),
        enableSorting: column.by !== undefined,
        sortingFn: 'alphanumeric',
      }))
  }, [columns])
  // eslint-disable-next-line react-hooks/incompatible-library
  const table = useReactTable({
    data: rows, columns: made, state: { sorting }, onSortingChange: setSorting,
    getRowId: name, getCoreRowModel: getCoreRowModel(), getSortedRowModel: getSortedRowModel(),
  })
  return (
    <div className="relative overflow-x-auto rounded-xl border border-line bg-card" tabIndex={0} role="region" aria-label={label}>
      <table className="w-full text-left">
        <thead>
          <tr className="border-b border-line text-[13px] text-soft">
            {table.getFlatHeaders().map((head) => {
              const sorted = head.column.getIsSorted()
              return (
                <th key={head.id} scope="col" aria-sort={sorted === false ? undefined : ORDER[sorted]} className={`px-3 py-2.5 font-semibold whitespace-nowrap ${columns[Number(head.column.id)]?.head === '' ? '*:sr-only' : ''}`}>
                  {head.column.getCanSort()
                    ? <button type="button" className="hover:text-ink" onClick={head.column.getToggleSortingHandler()}>{flexRender(head.column.columnDef.header, head.getContext())}{sorted === false ? '' : sorted === 'asc' ? ' ↑' : ' ↓'}</button>
                    : <span>{flexRender(head.column.columnDef.header, head.getContext())}</span>}
                </th>
              )
            })}
          </tr>
        </thead>
        <tbody>
          {table.getRowModel().rows.map((row) => (
            <tr key={row.id} className="border-b border-line/70 last:border-b-0">
              {row.getVisibleCells().map((cell) => {
                const column = columns[Number(cell.column.id)]
                const look = `px-3 py-2 align-top ${column?.breaks === true ? 'min-w-48 wrap-anywhere' : 'whitespace-nowrap'}`
                const shown = flexRender(cell.column.columnDef.cell, cell.getContext())
                return column?.names === true
                  ? <th key={cell.id} scope="row" className={`${look} font-medium`}>{shown}</th>
                  : <td key={cell.id} className={look}>{shown}</td>
              })}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  )
}
