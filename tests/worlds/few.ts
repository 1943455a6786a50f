/** So few packet identifiers and so short a reach that both are used up again and again, as they are in months of use. */
export const FEW = { PACKET_IDS: 97, AHEAD: 32 }
