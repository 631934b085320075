frontend "web" {
  listen = "127.0.0.1:8080"
  route "live" {
    when {
      path   = "/ledger/**"
      client = "198.51.100.0/24" # want: "live" uses the client's address, and only this machine reaches it | is compared with 198.51.100.0/24
    }
    send_to = upstream.app
  }
  route "rest" {
    reply {
      status = 404
      body   = "there is no such page\n"
    }
  }
}
upstream "app" {
  backends = {
    auk    = "192.0.2.11:8080"
    gannet = "192.0.2.12:8080"
  }
  probe "http" {
    path = "/ready"
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
}
