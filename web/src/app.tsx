// Routes of the application and what every screen shares: drop target, shortcuts, messages.
import { Navigate, Route, Routes, useLocation } from "react-router";
import { DestinationsPage } from "./destinations/DestinationsPage";
import { HaulPage } from "./haul/HaulPage";
import { HaulsPage } from "./hauls/HaulsPage";
import { DropAnywhere } from "./shared/DropAnywhere";
import { Messages } from "./shared/Messages";
import { Shortcuts } from "./shared/Shortcuts";
import { SignIn } from "./shared/SignIn";
import { Trouble } from "./shared/Trouble";

export function App() {
  const signingIn = useLocation().pathname === "/sign-in";
  return (
    <>
      <div className="flex h-full flex-col">
        {!signingIn && <Trouble />}
        <div className="min-h-0 grow">
          <Routes>
            <Route path="/sign-in" element={<SignIn />} />
            <Route path="/" element={<HaulsPage />} />
            <Route path="/hauls/:haulId" element={<Navigate to="survey" replace />} />
            <Route path="/hauls/:haulId/:station" element={<HaulPage />} />
            <Route path="/destinations" element={<DestinationsPage />} />
            <Route path="/destinations/:name" element={<DestinationsPage />} />
            <Route path="*" element={<Navigate to="/" replace />} />
          </Routes>
        </div>
      </div>
      {!signingIn && <DropAnywhere />}
      <Messages />
      <Shortcuts />
    </>
  );
}
