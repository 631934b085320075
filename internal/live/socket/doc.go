// Package socket is what clients' and backends' connections have in common: how many
// there may be and which one gives way, the PROXY protocol in front of them, the end
// of one as an event, and the words for what goes wrong with one. The proxy and its
// pools call it; it must never read or write what a request or an answer says.
package socket
