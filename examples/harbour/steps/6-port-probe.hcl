# A probe that only looks at the port.

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

  probe "tcp" {
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
