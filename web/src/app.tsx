// Routes of the application and what every screen shares: drop target, shortcuts, messages.
import { Navigate, Route, Routes } from "react-router";
import { DestinationsPage } from "./destinations/DestinationsPage";
import { HaulPage } from "./haul/HaulPage";
import { HaulsPage } from "./hauls/HaulsPage";
import { DropAnywhere } from "./shared/DropAnywhere";
import { Messages } from "./shared/Messages";
import { Shortcuts } from "./shared/Shortcuts";

export function App() {
  return (
    <>
      <Routes>
        <Route path="/" element={<HaulsPage />} />
        <Route path="/hauls/:haulId" element={<Navigate to="survey" replace />} />
        <Route path="/hauls/:haulId/:station" element={<HaulPage />} />
        <Route path="/destinations" element={<DestinationsPage />} />
        <Route path="/destinations/:name" element={<DestinationsPage />} />
        <Route path="*" element={<Navigate to="/" replace />} />
      </Routes>
      <DropAnywhere />
      <Messages />
      <Shortcuts />
    </>
  );
}
