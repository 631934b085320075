# The shop of Tern Line: TLS ends here, seats are held in a session, departures
# are event streams.
frontend "plain" {
  listen = ["0.0.0.0:80", "[::]:80"]

  route "to-tls" {
    redirect {
      to     = "https://{host}{path}"
      status = 308
    }
  }
}

frontend "shop" {
  listen = ["0.0.0.0:443", "[::]:443"]

  tls {
    certificate = ["shop.pem", "board.pem"]
    key         = ["shop.key", "board.key"]
    min_version = "1.2"
  }

  timeouts {
    request_header = "10s"
    idle           = "60s"
  }

  limits {
    body_size   = "1MiB"
    connections = 200
  }

  route "departures" {
    when {
      host = "board.tern.example"
    }
    send_to = upstream.board
  }

  route "timetable" {
    when {
      host   = "tickets.tern.example"
      path   = ["/sailings/**", "/assets/**"]
      method = ["GET", "HEAD"]
    }
    send_to = upstream.sailings
  }

  route "booking" {
    when {
      host = "tickets.tern.example"
    }
    send_to = upstream.booking
  }
}

upstream "booking" {
  algorithm = "least-connections"

  backends = {
    auk    = "192.0.2.11:8080"
    gannet = "192.0.2.12:8080"
    petrel = "192.0.2.13:8080"
  }

  slow_start = "30s"

  probe "http" {
    path       = "/ready"
    expect     = { status = ["200"], body = "*ready*" }
    every      = "2s"
    timeout    = "1s"
    down_after = 2
    up_after   = 3
  }

  suspend {
    after = 5
    rest  = "10s"
    keep  = "50%"
    on    = ["connect", "timeout", "reset", "502", "503", "504"]
  }

  sticky {
    by      = "cookie"
    name    = "tern_seat"
    ttl     = "8h"
    on_loss = "move"
    secret  = env("SEAT_SECRET")
  }

  retry {
    attempts = 2
    on       = ["connect", "reset", "503"]
    budget   = "20%"
  }

  timeouts {
    connect = "1s"
    answer  = "10s"
  }
}

upstream "sailings" {
  algorithm = "two-choices"

  backends = {
    skua = { address = "192.0.2.21:8080", weight = 2 }
    shag = "192.0.2.22:8080"
  }

  probe "http" {
    path       = "/ready"
    every      = "2s"
    timeout    = "1s"
    down_after = 2
    up_after   = 3
  }

  retry {
    attempts = 2
    on       = ["connect", "reset", "502", "503"]
  }

  timeouts {
    connect = "1s"
    answer  = "5s"
  }
}

upstream "board" {
  algorithm = "least-connections"

  backends = {
    fulmar = "192.0.2.31:8080"
    murre  = "192.0.2.32:8080"
  }

  probe "http" {
    path       = "/ready"
    every      = "2s"
    timeout    = "1s"
    down_after = 2
    up_after   = 3
  }

  retry {
    attempts = 2
    on       = ["connect", "reset"]
  }

  timeouts {
    connect = "1s"
    answer  = "5s"
    idle    = "2m"
  }
}
