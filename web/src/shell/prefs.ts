import { useSyncExternalStore } from "react";

/** Text size and sun mode, remembered on this device. */
type Size = "100" | "112" | "125";
const listeners = new Set<() => void>();

function read(name: string, fallback: string): string {
  return localStorage.getItem(`aldrip.${name}`) ?? fallback;
}

function write(name: string, value: string) {
  localStorage.setItem(`aldrip.${name}`, value);
  apply();
  for (const listener of listeners) listener();
}

export function apply() {
  document.documentElement.dataset.sun = read("sun", "off");
  document.documentElement.dataset.size = read("size", "100");
}

const subscribe = (listener: () => void) => {
  listeners.add(listener);
  return () => listeners.delete(listener);
};

export function usePrefs() {
  const sun = useSyncExternalStore(subscribe, () => read("sun", "off")) === "on";
  const size = useSyncExternalStore(subscribe, () => read("size", "100")) as Size;
  const letters = useSyncExternalStore(subscribe, lettersOn);
  return {
    sun,
    letters,
    setLetters: (on: boolean) => write("letters", on ? "on" : "off"),
    size,
    setSun: (on: boolean) => write("sun", on ? "on" : "off"),
    setSize: (next: Size) => write("size", next),
  };
}

/** Whether keys of one letter do anything; who dictates, or types with a switch, may want them off. */
export const lettersOn = () => read("letters", "on") === "on";

export function toggleSun() {
  write("sun", read("sun", "off") === "on" ? "off" : "on");
}
