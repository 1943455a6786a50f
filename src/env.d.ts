/// <reference types="astro/client" />

declare namespace App {
  interface Locals {
    caller: import('~/contract/person').Caller | null
    token: string | null
  }
}
