/** What stands in for a view until its data are there, or the reason why they are not. */
export function Pending({ error, text }: { error: Error | null; text: string }) {
  return (
    <p role={error ? "alert" : "status"} className="p-4">
      {error ? error.message : text}
    </p>
  );
}
