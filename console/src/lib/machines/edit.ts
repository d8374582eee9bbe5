/** What may be written down of machines and clients, as the service takes it. */
import type { Client, Machine, Schema } from '$lib/api/client';

/** All of a machine that people write down, as it is. */
export function machineEdit(machine: Machine): Schema['MachineEdit'] {
  const { tag, client_id, system, make, model, serial, memory, processor } = machine;
  const { system_version, year, used_for, used_by, location, note, threshold_percent } = machine;
  return {
    tag,
    client_id,
    system,
    make,
    model,
    serial,
    memory,
    processor,
    system_version,
    year,
    used_for,
    used_by,
    location,
    note,
    threshold_percent
  };
}

/** All of a client that people write down, as it is. */
export function clientEdit(client: Client): Schema['ClientEdit'] {
  const { name, contact, mail, phone, contact_by, hours, agreements, note } = client;
  const { zone, at_once, threshold_percent } = client;
  return {
    name,
    contact,
    mail,
    phone,
    contact_by,
    hours,
    agreements,
    note,
    zone,
    at_once,
    threshold_percent
  };
}

export const CONTACT_BY = ['', 'phone', 'mail', 'message', 'in person'] as const;

/** A client of whom the name alone is known. */
export const clientNamed = (name: string): Schema['ClientEdit'] => ({
  name,
  contact: '',
  mail: '',
  phone: '',
  contact_by: '',
  hours: '',
  agreements: '',
  note: ''
});

/** What nobody said of a machine that is taken in. */
export const UNSAID = {
  processor: '',
  system_version: '',
  used_for: '',
  used_by: '',
  location: ''
};
