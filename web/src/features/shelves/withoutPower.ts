/** Which shelves have no cable in them, or stand at a host that is off (both simulated). */
import { type Schema, server } from "../../api/client";

export function useWithoutPower() {
  const off = server.useQuery("get", "/api/stand-in/unplugged").data;
  return (shelf: Schema["ShelfOut"]) => ({
    unplugged: off?.shelves.includes(shelf.id) ?? false,
    hostOff: shelf.host_id !== null && (off?.hosts.includes(shelf.host_id) ?? false),
  });
}
