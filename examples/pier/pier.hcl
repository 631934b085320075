# The pier: a repository of one configuration that is held to what is expected of
# it each time somebody changes it. See docs/expectations.md.

frontend "tickets" {
  listen = ["127.0.0.1:8070"]

  route "all" {
    send_to = upstream.booking
  }
}

upstream "booking" {
  algorithm = "least-connections"

  backends = {
    auk    = "127.0.0.1:9301"
    gannet = "127.0.0.1:9302"
    petrel = "127.0.0.1:9303"
    skua   = "127.0.0.1:9304"
  }

  probe "http" {
    path       = "/ready"
    every      = "2s"
    timeout    = "1s"
    down_after = 2
    up_after   = 2
  }

  sticky {
    by     = "cookie"
    name   = "tern_seat"
    ttl    = "8h"
    secret = "made up for the example; make your own"
  }

  suspend {
    after = 5
    rest  = "10s"
  }

  retry {
    attempts = 2
    on       = ["connect", "reset", "timeout", "502", "503"]
  }

  timeouts {
    connect = "1s"
    answer  = "5s"
  }
}
