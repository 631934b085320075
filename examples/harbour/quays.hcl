# Tern Line on two quays: this proxy stands on the north quay, and the old
# machines in the boat shed are held ready.
zone = "north-quay"

frontend "tickets" {
  listen = "127.0.0.1:8090"

  route "all" {
    send_to = upstream.booking
  }
}

upstream "booking" {
  algorithm = "least-connections"

  backends = {
    auk    = { address = "127.0.0.1:9201", zone = "north-quay" }
    gannet = { address = "127.0.0.1:9202", zone = "north-quay" }
    petrel = { address = "127.0.0.1:9203", zone = "south-quay" }
    skua   = { address = "127.0.0.1:9204", zone = "south-quay" }
    shag   = { address = "127.0.0.1:9205", zone = "boat-shed", tier = 2 }
    fulmar = { address = "127.0.0.1:9206", zone = "boat-shed", tier = 2 }
  }

  failover {
    prefer      = "zone"
    spill_below = "80%"
  }

  probe "http" {
    path       = "/ready"
    every      = "3s"
    timeout    = "1s"
    down_after = 2
    up_after   = 3
  }

  retry {
    attempts = 2
    on       = ["connect", "reset", "503"]
    budget   = "20%"
  }
}
