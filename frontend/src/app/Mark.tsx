/** Two posts and the course between them. */
export function Mark({ size = 28 }: { size?: number }) {
  return (
    <svg width={size} height={size} viewBox="0 0 32 32" aria-hidden="true">
      <path
        d="M1 22 C8 22 9 10 16 10 S24 22 31 22"
        fill="none"
        stroke="currentColor"
        strokeWidth="2.2"
      />
      <path d="M10 5 V27 M22 5 V27" className="stroke-blocked" strokeWidth="2.2" />
    </svg>
  );
}
