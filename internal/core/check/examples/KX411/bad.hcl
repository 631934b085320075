frontend "web" {
  listen = "0.0.0.0:8080"
  route "upgrade" { # want: "upgrade" opens streams that "poll" prepares, and "app" is not sticky | meet two backends
    when {
      path   = "/talk/**"
      header = { Upgrade = "websocket" }
    }
    send_to = upstream.app
  }
  route "poll" {
    when {
      path = "/talk/**"
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
