# TLS of several services on one address, passed through unopened and told apart
# by the name that clients ask for.
frontend "names" {
  listen   = "0.0.0.0:443"
  protocol = "tcp"

  timeouts {
    request_header = "5s"
  }

  route "mail" {
    when {
      sni = ["mail.tern.example", "*.mail.tern.example"]
    }
    send_to = upstream.mail
  }

  route "crew" {
    when {
      sni = "crew.tern.example"
    }
    send_to = upstream.crew
  }
}

upstream "mail" {
  algorithm = "hash"

  backends = {
    auk    = "192.0.2.51:443"
    gannet = "192.0.2.52:443"
    petrel = "192.0.2.53:443"
  }

  proxy_protocol = "v2"

  hash {
    key    = "client"
    method = "rendezvous"
  }

  probe "tls" {
    name       = "mail.tern.example"
    every      = "5s"
    timeout    = "2s"
    down_after = 2
    up_after   = 2
  }

  retry {
    attempts = 2
    on       = ["connect"]
  }

  timeouts {
    connect = "2s"
    idle    = "30m"
  }
}

upstream "crew" {
  algorithm = "round-robin"

  backends = {
    skua = "192.0.2.61:443"
    shag = "192.0.2.62:443"
    knot = "192.0.2.63:443"
  }

  proxy_protocol = "v2"

  probe "tls" {
    name       = "crew.tern.example"
    every      = "5s"
    timeout    = "2s"
    down_after = 2
    up_after   = 2
  }

  retry {
    attempts = 2
    on       = ["connect"]
  }

  timeouts {
    connect = "2s"
    idle    = "30m"
  }
}
