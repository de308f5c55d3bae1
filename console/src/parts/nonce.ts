// The page's nonce, which the few style elements carry that parts put into the page; the policy refuses any other.
import { setNonce } from 'get-nonce'

export const nonce = document.querySelector<HTMLMetaElement>('meta[name=nonce]')?.content

export function carryNonce() {
  if (nonce) setNonce(nonce)
}
