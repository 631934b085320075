access_log {
  to     = "access.log"
  format = "json"
}
frontend "web" {
  listen = "0.0.0.0:8080"
  route "shop" {
    when {
      path = "/shop/**"
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
  sticky {
    by   = "existing-cookie"
    name = "voyage"
  }
}
