const key = 'lithos.site'

export const lastSite = () => localStorage.getItem(key)
export const rememberSite = (code: string) => localStorage.setItem(key, code)
