import { Link as Page } from 'react-router'

/** The site in open formats, to save. */
export function Export({ site, customer }: { site: string; customer: string }) {
  const at = `/api/sites/${encodeURIComponent(site)}`
  const tables = ['addresses', 'names', 'options']
  return (
    <section aria-label="Export" className="mt-5">
      <h2>Export</h2>
      <ul className="mt-1 text-[13px]">
        <li className="py-1 flex flex-wrap gap-x-3">
          <span className="text-ink-2">On one sheet, for the cupboard door</span>
          <Page className="underline" to={`/sites/${site}/sheet`}>
            show
          </Page>
          <Link to={`${at}/card/file?as=pdf`}>PDF</Link>
        </li>
        <li className="py-1 flex flex-wrap gap-x-3">
          <span className="text-ink-2">The site as a file</span>
          <Link to={`${at}/file?format=yaml`}>YAML</Link>
          <Link to={`${at}/file?format=json`}>JSON</Link>
        </li>
        <li className="py-1 flex flex-wrap gap-x-3">
          <span className="text-ink-2">For a spreadsheet (CSV)</span>
          {tables.map((of) => (
            <Link key={of} to={`${at}/sheet?of=${of}`}>
              {of}
            </Link>
          ))}
        </li>
        <li className="py-1 flex flex-wrap gap-x-3">
          <span className="text-ink-2">The same as a workbook (XLSX)</span>
          {tables.map((of) => (
            <Link key={of} to={`${at}/sheet?of=${of}&as=xlsx`} label={`${of} as a workbook`}>
              {of}
            </Link>
          ))}
        </li>
        <li className="py-1 flex flex-wrap gap-x-3">
          <span className="text-ink-2">Of all sites of {customer}</span>
          {tables.map((of) => (
            <Link key={of} to={`${at}/sheet?of=${of}&customer=true`} label={`${of} of all sites of ${customer}`}>
              {of}
            </Link>
          ))}
        </li>
      </ul>
    </section>
  )
}

function Link({ to, label, children }: { to: string; label?: string; children: string }) {
  return (
    <a className="underline" href={to} download aria-label={label}>
      {children}
    </a>
  )
}
