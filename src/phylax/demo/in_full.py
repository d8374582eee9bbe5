"""What the desk of the made-up shop has written down of its clients and machines."""

from __future__ import annotations

from typing import Any
from zlib import crc32

from phylax.core.ground.machines import System
from phylax.demo.scenario import MachineSpec

CLIENTS: dict[str, dict[str, Any]] = {
    "Skerry Ferry Office": {
        "phone": "555 0110", "contact_by": "phone", "hours": "between the ferries: 10 to 12",
        "agreements": "Weekly cleaning, a report each quarter.",
    },
    "Marram Lighthouse Museum": {
        "phone": "555 0121", "contact_by": "mail", "hours": "closed on Mondays",
        "agreements": "The kiosk only while the museum is open.",
    },
    "Gannet Row Veterinary Practice": {
        "phone": "555 0132", "contact_by": "phone", "hours": "after surgery, from 17:00",
        "agreements": "Nothing of the picture archive without a word from Dr Ashby.",
    },
    "Saltmarsh Primary School library": {
        "phone": "555 0143", "contact_by": "mail", "hours": "school days until 15:00",
        "agreements": "All four machines on the first of the month.",
    },
    "Kelpie Boatyard": {"phone": "555 0154", "contact_by": "in person",
                        "hours": "at the slip, high water or not"},
    "Tidewrack Pottery": {"phone": "555 0165", "contact_by": "message",
                          "hours": "not while the kiln is opened"},
    "Harbour Choir archive": {"phone": "555 0176", "contact_by": "mail"},
    "Bram Oakes, at home": {
        "phone": "555 0187", "contact_by": "message", "hours": "evenings",
        "agreements": "Ask before anything above 60.",
    },
}  # fmt: skip

MACHINES: dict[str, dict[str, Any]] = {
    "ferry-desk": {"used_for": "bookings and mail", "used_by": "Maren Oyle",
                   "location": "the office, by the window", "year": 2022},
    "ferry-tickets": {"used_for": "tickets, the till and scans of manifests",
                      "used_by": "whoever has the shift", "location": "the counter", "year": 2020},
    "ferry-board": {"used_for": "the board with the departures", "location": "the waiting room"},
    "museum-desk": {"used_for": "office and donations", "used_by": "Edda Thorne", "year": 2016},
    "museum-kiosk": {"used_for": "the tour that visitors start themselves",
                     "used_by": "visitors", "location": "the lamp room", "year": 2018},
    "vet-front": {"used_for": "appointments", "location": "reception", "year": 2021},
    "vet-xray": {"used_for": "the X-ray and its archive", "used_by": "Dr Ashby and two nurses",
                 "location": "the dark room", "year": 2019},
    "vet-office": {"used_for": "accounts", "year": 2021},
    "boatyard-cad": {"used_for": "drawings of hulls", "used_by": "Rory Vane", "year": 2020},
    "pottery-mac": {"used_for": "orders and pictures of pots", "used_by": "Sunniva Clay",
                    "location": "the studio, away from the dust", "year": 2021},
    "choir-server": {"used_for": "scores and recordings", "used_by": "the whole choir",
                     "location": "under the organ loft", "year": 2017},
    "oakes-laptop": {"used_for": "everything", "used_by": "Bram Oakes and his granddaughter",
                     "year": 2020},
}  # fmt: skip

_VERSIONS = {
    System.WINDOWS: "Windows 11 Pro 24H2 build 26100",
    System.MACOS: "macOS 15.5",
    System.LINUX: "Debian GNU/Linux 12 (bookworm)",
}


def itself(spec: MachineSpec) -> dict[str, str]:
    """What a stand-in says of itself: serial number, processor, version of its system."""
    number = crc32(spec.tag.encode()) % 10**7
    return {
        "serial": f"{spec.make[:2].upper()}{number:07d}",
        "processor": f"{spec.make} {'Q4' if spec.memory > 8 else 'Q2'} at 2.4 GHz",
        "system_version": _VERSIONS[spec.system],
    }
