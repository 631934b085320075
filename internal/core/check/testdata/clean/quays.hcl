# One proxy on each quay. Requests stay on it while it can take them, go to the
# other quay when it cannot, and to the boat shed when both lack machines.
zone = env("QUAY", "north-quay")

frontend "tickets" {
  listen = ["0.0.0.0:8080", "[::]:8080"]

  route "all" {
    send_to = upstream.booking
  }
}

upstream "booking" {
  algorithm = "least-connections"

  backends = {
    auk    = { address = "192.0.2.11:8080", zone = "north-quay", max_in_flight = 120 }
    gannet = { address = "192.0.2.12:8080", zone = "north-quay", max_in_flight = 120 }
    petrel = { address = "192.0.2.21:8080", zone = "south-quay", max_in_flight = 120 }
    skua   = { address = "192.0.2.22:8080", zone = "south-quay", max_in_flight = 120 }
    shag   = { address = "192.0.2.31:8080", zone = "boat-shed", tier = 2, max_in_flight = 120 }
    fulmar = { address = "192.0.2.32:8080", zone = "boat-shed", tier = 2, max_in_flight = 120 }
  }

  failover {
    prefer      = "zone"
    spill_below = "80%"
  }

  queue {
    limit   = 60
    timeout = "1s"
  }

  probe "http" {
    path             = "/ready"
    every            = "2s"
    every_while_down = "1s"
    timeout          = "1s"
    down_after       = 2
    up_after         = 3
  }

  retry {
    attempts = 2
    on       = ["connect", "reset", "503"]
    budget   = "20%"
  }

  timeouts {
    connect = "1s"
    answer  = "8s"
  }
}
