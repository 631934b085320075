# A session that sticks: a cookie keeps a customer on one backend.

frontend "tickets" {
  listen = ["127.0.0.1:8080"]

  route "all" {
    send_to = upstream.booking
  }
}

upstream "booking" {
  algorithm = "least-connections"

  backends = {
    auk    = "127.0.0.1:9101"
    gannet = "127.0.0.1:9102"
    petrel = "127.0.0.1:9103"
  }

  probe "http" {
    path       = "/ready"
    every      = "3s"
    timeout    = "1s"
    down_after = 2
    up_after   = 3
  }

  sticky {
    by     = "cookie"
    name   = "tern_seat"
    secret = "made up for the demo; make your own"
  }

  timeouts {
    connect = "1s"
    answer  = "10s"
  }
}
