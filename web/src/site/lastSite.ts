const site = 'lithos.site'
const look = (code: string) => `lithos.look.${code}`

/** The site looked at last in this browser. */
export const lastSite = () => localStorage.getItem(site) ?? ''

/** Remembers a site, and what of it was looked at in this tab. */
export const rememberSite = (code: string, network: string | undefined) => {
  localStorage.setItem(site, code)
  if (network) sessionStorage.setItem(look(code), network)
}

/** The address of a site's page, at the network that was looked at last. */
export const siteAt = (code: string) => {
  const network = sessionStorage.getItem(look(code))
  return `/sites/${code}${network ? `?network=${network}` : ''}`
}
