# Written in a hurry: everything here can be read, and none of it does what it
# seems to when something fails. `kestrix check risky.hcl` says why.
frontend "tickets" {
  listen = "0.0.0.0:8080"

  route "board" {
    when {
      host = "board.tern.example"
    }
    send_to = upstream.board
  }
  route "live" {
    when {
      path = "/live/**"
    }
    send_to = upstream.booking
  }
}

upstream "booking" {
  backends = {
    auk    = { address = "192.0.2.11:8080", max_in_flight = 300 }
    gannet = { address = "192.0.2.12:8080", max_in_flight = 100 }
    petrel = { address = "192.0.2.13:8080", tier = 2, max_in_flight = 100 }
  }
  failover {
  }
  sticky {
    by      = "cookie"
    secret  = "a line that only the proxies know"
    on_loss = "refuse"
  }
}

upstream "board" {
  algorithm = "hash"
  hash {
    method = "modulo"
  }
  backends = {
    fulmar = "192.0.2.21:8080"
    gannet = "192.0.2.22:8080"
  }
  probe "tcp" {
  }
}
