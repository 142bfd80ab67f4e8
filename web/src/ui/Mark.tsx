/** The mark: a gambrel roof over an open door. */
export function Mark({ size = 28 }: { size?: number }) {
  return (
    <svg width={size} height={size} viewBox="0 0 28 28" aria-hidden className="text-barn">
      <path fill="currentColor" d="M14 2 22.4 8 26 26H18.5V17.2H9.5V26H2L5.6 8Z" />
    </svg>
  );
}
