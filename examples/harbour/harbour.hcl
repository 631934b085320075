# Tern Line, a made-up ferry company: the booking site of its harbour.
# Everything is on loopback, so that it runs on any machine:
#
#   kestrix standin harbour.hcl      simulated backends, in one terminal
#   kestrix serve harbour.hcl        the proxy, in another
#   curl http://127.0.0.1:8080/seats and ask it, in a third

let {
  ready = "/ready" # the page of each backend that asks its own database
}

frontend "tickets" {
  listen = ["127.0.0.1:8080"]

  # The first route that fits decides.
  route "departures" {
    when {
      path = ["/board/**"]
    }
    send_to = upstream.board
  }

  route "timetable" {
    when {
      path   = ["/sailings/**", "/assets/**"]
      method = ["GET", "HEAD"]
    }
    send_to = upstream.sailings
  }

  route "rest" {
    send_to = upstream.booking
  }
}

# Seats are held in a session, so a customer keeps the backend.
upstream "booking" {
  algorithm = "least-connections"

  backends = {
    auk    = "127.0.0.1:9101"
    gannet = "127.0.0.1:9102"
    petrel = { address = "127.0.0.1:9103", max_in_flight = 200 }
  }

  probe "http" {
    path       = let.ready
    expect     = { status = ["200-299"], body = "*ready*" }
    every      = "1s"
    timeout    = "500ms"
    down_after = 2
    up_after   = 2
  }

  sticky {
    by      = "cookie"
    name    = "tern_seat"
    ttl     = "8h"
    on_loss = "move"
    secret  = "made up for the demo; make your own" # so that seats survive a restart
  }

  # Five requests in a row that fail say what a probe may not see.
  suspend {
    after = 5
    rest  = "10s"
    keep  = "50%"
  }

  retry {
    attempts = 2
    on       = ["connect", "reset", "timeout", "502", "503"]
  }

  timeouts {
    connect = "1s"
    answer  = "10s"
  }
}

# Timetables are the same everywhere; the bigger machine gets twice as much.
upstream "sailings" {
  algorithm = "round-robin"

  backends = {
    skua = { address = "127.0.0.1:9111", weight = 2 }
    shag = "127.0.0.1:9112"
  }

  probe "http" {
    path       = let.ready
    every      = "1s"
    timeout    = "500ms"
    down_after = 2
    up_after   = 2
  }

  retry {
    attempts = 2
  }

  timeouts {
    connect = "1s"
    answer  = "10s"
  }
}

# Departure boards stand on the quays and have no cookies: by address.
upstream "board" {
  # kestrix: allow KX306 because only the demo itself asks here
  algorithm = "hash"

  backends = {
    fulmar = "127.0.0.1:9121"
    gannet = "127.0.0.1:9122"
  }

  probe "http" {
    path       = let.ready
    every      = "1s"
    timeout    = "500ms"
    down_after = 2
    up_after   = 2
  }

  retry {
    attempts = 2
  }

  timeouts {
    connect = "1s"
    answer  = "10s"
  }
}

access_log {
  to     = "stdout"
  format = "combined"
}

# Answers kestrix status, watch and tell, and a browser: http://127.0.0.1:9900/
control {
  listen = "127.0.0.1:9900" # loopback only; other addresses want users and TLS
}
