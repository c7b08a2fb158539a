import { createContext, useContext, useEffect } from "react"

export interface Visitor {
  name: string
  role: string
}

/** Each may do what those before it may. */
export const roles = ["reader", "operator", "developer", "owner"] as const
type Role = (typeof roles)[number]

export const VisitorContext = createContext<Visitor>({ name: "", role: "reader" })

/** Whether somebody in this role may do what asks for another. */
export function may(visitor: Visitor, role: Role): boolean {
  return roles.indexOf(visitor.role as Role) >= roles.indexOf(role)
}

/** Whether whoever is signed in may do what asks for a role: nothing is offered that would be refused. */
export function useMay(role: Role): boolean {
  return may(useContext(VisitorContext), role)
}

export function useTitle(title: string | undefined): void {
  useEffect(() => {
    document.title = title ? `${title} · Wobbet` : "Wobbet"
  }, [title])
}
