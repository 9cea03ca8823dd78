// A value that follows another one once that has been quiet for a moment, so that a word costs one request.
import { useEffect, useState } from "react";

export function useDebounced<T>(value: T, milliseconds = 200): T {
  const [quiet, setQuiet] = useState(value);
  useEffect(() => {
    const timer = setTimeout(() => setQuiet(value), milliseconds);
    return () => clearTimeout(timer);
  }, [value, milliseconds]);
  return quiet;
}
