/** The mark of the house: a needle in a ring. */
export function Compass() {
  return (
    <svg width="22" height="22" viewBox="0 0 22 22" aria-hidden="true" focusable="false">
      <circle cx="11" cy="11" r="9.5" fill="none" stroke="var(--mui-palette-chart-depth5)" strokeWidth="1.2" />
      <path d="M11 3.5l2 7.5h-4z" fill="var(--mui-palette-chart-mark)" />
      <path d="M11 18.5l-2-7.5h4z" fill="var(--mui-palette-chart-depth5)" />
    </svg>
  );
}
