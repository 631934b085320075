# Three backends, one after the other.

frontend "tickets" {
  listen = ["127.0.0.1:8080"]

  route "all" {
    send_to = upstream.booking
  }
}

upstream "booking" {
  algorithm = "round-robin"

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

  timeouts {
    connect = "1s"
    answer  = "10s"
  }
}
