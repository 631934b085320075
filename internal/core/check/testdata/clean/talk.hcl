# The harbour's talk: browsers poll at first and change to a WebSocket when they
# can, and both have to meet the same server.
frontend "talk" {
  listen = "0.0.0.0:443"

  tls {
    certificate = "talk.pem"
    key         = "talk.key"
  }

  route "live" {
    when {
      path   = "/talk/**"
      header = { "Upgrade" = "websocket" }
    }
    send_to = upstream.talk

    timeouts {
      idle = "5m"
    }
  }

  route "poll" {
    when {
      path = "/talk/**"
    }
    send_to = upstream.talk
  }

  route "rest" {
    send_to = upstream.pages
  }
}

upstream "talk" {
  algorithm = "least-connections"

  backends = {
    auk    = "192.0.2.191:8080"
    gannet = "192.0.2.192:8080"
  }

  on_down = "close"

  probe "http" {
    path       = "/ready"
    every      = "2s"
    timeout    = "1s"
    down_after = 2
    up_after   = 2
  }

  sticky {
    by      = "cookie"
    name    = "talk_seat"
    ttl     = "12h"
    on_loss = "move"
    secret  = env("TALK_SECRET")
  }

  retry {
    attempts = 2
    on       = ["connect"]
  }

  timeouts {
    connect = "1s"
    answer  = "40s"
    idle    = "2m"
  }
}

upstream "pages" {
  algorithm = "round-robin"

  backends = {
    skua   = "192.0.2.201:8080"
    shag   = "192.0.2.202:8080"
    petrel = "192.0.2.203:8080"
  }

  probe "http" {
    path       = "/ready"
    every      = "2s"
    timeout    = "1s"
    down_after = 2
    up_after   = 2
  }

  retry {
    attempts = 2
    on       = ["connect", "reset", "503"]
    budget   = "20%"
  }

  timeouts {
    connect = "1s"
    answer  = "5s"
  }
}
