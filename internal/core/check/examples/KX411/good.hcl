frontend "web" {
  listen = "0.0.0.0:8080"
  route "upgrade" {
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
  sticky {
    by     = "cookie"
    secret = "pQ7v-2mLx9-dT4kRw8z"
  }
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
