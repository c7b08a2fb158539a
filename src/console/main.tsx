import { StrictMode } from "react"
import { createRoot } from "react-dom/client"
import { BrowserRouter } from "react-router"
import { App } from "./App.tsx"
import { Boundary } from "./parts/Boundary.tsx"
import { startTheme } from "./theme.ts"
import "./style.css"

startTheme()
createRoot(document.getElementById("root")!).render(
  <StrictMode>
    <Boundary>
      <BrowserRouter>
        <App />
      </BrowserRouter>
    </Boundary>
  </StrictMode>,
)
