// Loaded by Dravit before the command of a part: servers that would listen on every address of this machine listen on
// 127.0.0.1. To let other machines reach the part: dravit start --reachable part.NAME
'use strict'
const net = require('net')
const wide = ['', '0.0.0.0', '::', '::0', '0:0:0:0:0:0:0:0']
const isPort = (x) => typeof x === 'number' || (typeof x === 'string' && /^\d+$/.test(x.trim()))
const listen = net.Server.prototype.listen
net.Server.prototype.listen = function (first, ...rest) {
  if (first !== null && typeof first === 'object' && first.port !== undefined && first.path === undefined) {
    if (!first.host || wide.includes(first.host)) first = { ...first, host: '127.0.0.1' }
  } else if (isPort(first)) {
    if (typeof rest[0] !== 'string') rest.unshift('127.0.0.1')
    else if (wide.includes(rest[0])) rest[0] = '127.0.0.1'
  }
  return listen.call(this, first, ...rest)
}
