import { Menu, MenuButton, MenuItem, MenuItems } from "@headlessui/react"
import { useState } from "react"
import { service } from "../service.ts"
import type { Theme } from "../theme.ts"
import { chooseTheme, chosenTheme } from "../theme.ts"
import type { Visitor } from "../visitor.ts"
import { useAct } from "../data.ts"
import { problemText } from "../service.ts"

const themes: { id: Theme; name: string }[] = [
  { id: "system", name: "As the system" },
  { id: "light", name: "Light" },
  { id: "dark", name: "Dark" },
]

export function AccountMenu({ visitor, pages, leave }: { visitor: Visitor; pages: number; leave: () => void }) {
  const [theme, setTheme] = useState(chosenTheme())
  const { act, error } = useAct()
  const item = "block w-full cursor-pointer px-3 py-1.5 text-left text-sm data-focus:bg-spruce-wash"
  return (
    <>
      {error ? (
        <span role="alert" className="text-xs text-damson">
          Not signed out: {problemText(error)}
        </span>
      ) : null}
      <Menu as="div" className="relative">
        <MenuButton className="cursor-pointer rounded-sm border border-edge px-3 py-1 text-sm hover:border-spruce">
          {visitor.name} <span className="text-quiet">({visitor.role})</span>
        </MenuButton>
        <MenuItems
          modal={false}
          className="absolute top-full right-0 z-20 mt-1 w-56 border border-line bg-paper py-1 shadow-md"
        >
          {themes.map(({ id, name }) => (
            <MenuItem key={id}>
              <button
                type="button"
                className={item}
                onClick={() => {
                  chooseTheme(id)
                  setTheme(id)
                }}
              >
                {theme === id ? "● " : "○ "}
                {name}
              </button>
            </MenuItem>
          ))}
          <MenuItem>
            <button
              type="button"
              className={`${item} border-t border-line`}
              onClick={() => act(() => service.signOut(), leave)}
            >
              Sign out
            </button>
          </MenuItem>
          <p className="border-t border-line px-3 py-1.5 text-xs text-quiet">
            Keys: 1 to {pages} pages, ↑ ↓ or j k in lists, / search
          </p>
        </MenuItems>
      </Menu>
    </>
  )
}
