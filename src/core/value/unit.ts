/** A unit of measurement as people write it, with its codes in UCUM (case sensitive) and UN/CEFACT Recommendation 20. */
export interface Unit {
  symbol: string
  name: string
  quantity: string
  ucum: string
  cefact: string | null
}

const u = (symbol: string, name: string, quantity: string, ucum: string, cefact: string | null): Unit => ({ symbol, name, quantity, ucum, cefact })

/** Units that plants measure in. */
export const units: readonly Unit[] = [
  u('°C', 'degree Celsius', 'temperature', 'Cel', 'CEL'),
  u('°F', 'degree Fahrenheit', 'temperature', '[degF]', 'FAH'),
  u('K', 'kelvin', 'temperature', 'K', 'KEL'),
  u('%', 'per cent', 'share', '%', 'P1'),
  u('ppm', 'parts per million', 'share', '[ppm]', '59'),
  u('1', 'one', 'number', '1', 'C62'),
  u('pcs', 'piece', 'number', '{piece}', 'H87'),
  u('Pa', 'pascal', 'pressure', 'Pa', 'PAL'),
  u('hPa', 'hectopascal', 'pressure', 'hPa', 'A97'),
  u('kPa', 'kilopascal', 'pressure', 'kPa', 'KPA'),
  u('MPa', 'megapascal', 'pressure', 'MPa', 'MPA'),
  u('bar', 'bar', 'pressure', 'bar', 'BAR'),
  u('mbar', 'millibar', 'pressure', 'mbar', 'MBR'),
  u('psi', 'pound-force per square inch', 'pressure', '[psi]', 'PS'),
  u('mm', 'millimetre', 'length', 'mm', 'MMT'),
  u('cm', 'centimetre', 'length', 'cm', 'CMT'),
  u('m', 'metre', 'length', 'm', 'MTR'),
  u('km', 'kilometre', 'length', 'km', 'KMT'),
  u('µm', 'micrometre', 'length', 'um', '4H'),
  u('in', 'inch', 'length', '[in_i]', 'INH'),
  u('m²', 'square metre', 'area', 'm2', 'MTK'),
  u('m³', 'cubic metre', 'volume', 'm3', 'MTQ'),
  u('l', 'litre', 'volume', 'L', 'LTR'),
  u('ml', 'millilitre', 'volume', 'mL', 'MLT'),
  u('m³/h', 'cubic metre per hour', 'volume flow', 'm3/h', 'MQH'),
  u('m³/min', 'cubic metre per minute', 'volume flow', 'm3/min', 'G53'),
  u('m³/s', 'cubic metre per second', 'volume flow', 'm3/s', 'MQS'),
  u('l/min', 'litre per minute', 'volume flow', 'L/min', 'L2'),
  u('l/s', 'litre per second', 'volume flow', 'L/s', 'G51'),
  u('l/h', 'litre per hour', 'volume flow', 'L/h', 'E32'),
  u('g', 'gram', 'mass', 'g', 'GRM'),
  u('kg', 'kilogram', 'mass', 'kg', 'KGM'),
  u('t', 'tonne', 'mass', 't', 'TNE'),
  u('kg/h', 'kilogram per hour', 'mass flow', 'kg/h', 'E93'),
  u('kg/s', 'kilogram per second', 'mass flow', 'kg/s', 'KGS'),
  u('t/h', 'tonne per hour', 'mass flow', 't/h', 'E18'),
  u('kg/m³', 'kilogram per cubic metre', 'density', 'kg/m3', 'KMQ'),
  u('ms', 'millisecond', 'time', 'ms', 'C26'),
  u('s', 'second', 'time', 's', 'SEC'),
  u('min', 'minute', 'time', 'min', 'MIN'),
  u('h', 'hour', 'time', 'h', 'HUR'),
  u('d', 'day', 'time', 'd', 'DAY'),
  u('m/s', 'metre per second', 'speed', 'm/s', 'MTS'),
  u('m/min', 'metre per minute', 'speed', 'm/min', '2X'),
  u('km/h', 'kilometre per hour', 'speed', 'km/h', 'KMH'),
  u('mm/s', 'millimetre per second', 'speed', 'mm/s', 'C16'),
  u('m/s²', 'metre per second squared', 'acceleration', 'm/s2', 'MSK'),
  u('1/min', 'revolution per minute', 'rotation', '{rev}/min', 'RPM'),
  u('°', 'degree', 'angle', 'deg', 'DD'),
  u('rad', 'radian', 'angle', 'rad', 'C81'),
  u('Hz', 'hertz', 'frequency', 'Hz', 'HTZ'),
  u('kHz', 'kilohertz', 'frequency', 'kHz', 'KHZ'),
  u('N', 'newton', 'force', 'N', 'NEW'),
  u('kN', 'kilonewton', 'force', 'kN', 'B47'),
  u('Nm', 'newton metre', 'torque', 'N.m', 'NU'),
  u('J', 'joule', 'energy', 'J', 'JOU'),
  u('kJ', 'kilojoule', 'energy', 'kJ', 'KJO'),
  u('MJ', 'megajoule', 'energy', 'MJ', '3B'),
  u('Wh', 'watt hour', 'energy', 'W.h', 'WHR'),
  u('kWh', 'kilowatt hour', 'energy', 'kW.h', 'KWH'),
  u('MWh', 'megawatt hour', 'energy', 'MW.h', 'MWH'),
  u('W', 'watt', 'power', 'W', 'WTT'),
  u('kW', 'kilowatt', 'power', 'kW', 'KWT'),
  u('MW', 'megawatt', 'power', 'MW', 'MAW'),
  u('kVA', 'kilovolt ampere', 'apparent power', 'kV.A', 'KVA'),
  u('mV', 'millivolt', 'voltage', 'mV', '2Z'),
  u('V', 'volt', 'voltage', 'V', 'VLT'),
  u('kV', 'kilovolt', 'voltage', 'kV', 'KVT'),
  u('mA', 'milliampere', 'current', 'mA', '4K'),
  u('A', 'ampere', 'current', 'A', 'AMP'),
  u('Ω', 'ohm', 'resistance', 'Ohm', 'OHM'),
  u('lx', 'lux', 'illuminance', 'lx', 'LUX'),
  u('pH', 'pH', 'acidity', '[pH]', 'Q30'),
  u('µS/cm', 'microsiemens per centimetre', 'conductivity', 'uS/cm', 'G42'),
  u('mg/l', 'milligram per litre', 'concentration', 'mg/L', 'M1'),
  u('g/m³', 'gram per cubic metre', 'concentration', 'g/m3', 'A93'),
  u('mg/m³', 'milligram per cubic metre', 'concentration', 'mg/m3', 'GP'),
  u('dB', 'decibel', 'level', 'dB', '2N'),
  u('bit/s', 'bit per second', 'data rate', 'bit/s', 'B10'),
]

const known = new Map<string, Unit>()
for (const one of units) for (const key of [one.cefact, one.ucum, one.symbol]) if (key) known.set(key, one)
for (const [also, symbol] of [
  ['℃', '°C'],
  ['degC', '°C'],
  ['degF', '°F'],
  ['deg', '°'],
  ['rpm', '1/min'],
] as const)
  known.set(also, known.get(symbol)!)

/** The unit that a symbol or a code of UCUM or UN/CEFACT means; undefined for what is not in the list. Symbols win over codes. */
export const unitOf = (text: string): Unit | undefined => known.get(text.trim())
