// The page of parts is for who builds the interface: it is there only where it is asked for.
export function loader() {
  if (process.env.KERAMION_PARTS !== '1') throw new Response('There is no such page.', { status: 404 });
  return null;
}
