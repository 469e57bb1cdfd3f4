import type { ButtonHTMLAttributes } from 'react'

/** A button among others on a line. */
export function SmallButton({ className = '', type = 'button', ...rest }: ButtonHTMLAttributes<HTMLButtonElement>) {
  return <button type={type} className={`btn !h-[28px] ${className}`} {...rest} />
}
