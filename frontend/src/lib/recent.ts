/** Addresses that were followed in this browser, the last first. */
const KEY = "ecumen-followed";
const MOST = 10;
const LONGEST = 500;

export interface Followed {
  url: string;
  to?: string;
  status: number | null;
}

export function recent(): Followed[] {
  try {
    const kept: unknown = JSON.parse(localStorage.getItem(KEY) ?? "[]");
    return Array.isArray(kept) ? kept.filter(isFollowed).slice(0, MOST) : [];
  } catch {
    // A browser may keep nothing for us, or something else under our name.
    return [];
  }
}

export function remember(followed: Followed) {
  if (followed.url.length > LONGEST) return;
  const others = recent().filter((each) => each.url !== followed.url || each.to !== followed.to);
  try {
    localStorage.setItem(KEY, JSON.stringify([followed, ...others].slice(0, MOST)));
  } catch {
    // It is forgotten, then.
  }
}

function isFollowed(each: unknown): each is Followed {
  return typeof each === "object" && each !== null && typeof (each as Followed).url === "string";
}
