# Turnstiles connect through a relay on each quay, which names them in a PROXY
# protocol header. They speak lines over TCP and stay connected.
trusted_proxies = ["198.51.100.0/28"]

frontend "turnstiles" {
  listen         = "192.0.2.1:7000"
  protocol       = "tcp"
  proxy_protocol = true

  limits {
    connections = 20
  }

  route "workshop" {
    when {
      client = "203.0.113.0/26"
    }
    send_to = upstream.workshop
  }

  route "quays" {
    when {
      client = "203.0.113.64/26"
    }
    send_to = upstream.gate
  }
}

upstream "gate" {
  algorithm = "least-connections"

  backends = {
    auk    = { address = "192.0.2.41:7001", max_in_flight = 400 }
    gannet = { address = "192.0.2.42:7001", max_in_flight = 400 }
    shag   = { address = "192.0.2.43:7001", max_in_flight = 400 }
  }

  proxy_protocol = "v2"
  on_down        = "close"

  probe "tcp" {
    send       = "PING\r\n"
    expect     = { body = "PONG*" }
    every      = "2s"
    timeout    = "1s"
    down_after = 2
    up_after   = 3
  }

  retry {
    attempts = 2
    on       = ["connect"]
  }

  queue {
    limit   = 50
    timeout = "2s"
  }

  timeouts {
    connect = "1s"
    idle    = "10m"
  }
}

upstream "workshop" {
  backends = {
    fulmar = "192.0.2.49:7001"
  }

  proxy_protocol = "v2"

  probe "tcp" {
    every   = "10s"
    timeout = "2s"
  }

  timeouts {
    connect = "1s"
    idle    = "10m"
  }
}
