frontend "web" {
  listen = "0.0.0.0:8080"
  route "live" {
    when {
      path   = "/talk/**"
      header = { Upgrade = "websocket" }
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
  http_version = "2" # want: "live" sends upgrades to "app", which uses HTTP/2 | reaches the backend without it
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
