declare module 'saxen' {
  type Attributes = Record<string, string>
  export class Parser {
    on(event: 'openTag', hear: (name: string, attributes: () => Attributes, decode: (text: string) => string) => void): this
    on(event: 'closeTag', hear: (name: string) => void): this
    on(event: 'text', hear: (value: string, decode: (text: string) => string) => void): this
    on(event: 'cdata', hear: (value: string) => void): this
    on(event: 'error' | 'warn', hear: (e: Error) => void): this
    parse(xml: string): this
  }
}
