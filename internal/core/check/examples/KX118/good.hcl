frontend "web" {
  listen = "0.0.0.0:8080"
  route "office" {
    when {
      path   = "/admin/**"
      client = "198.51.100.0/24"
    }
    send_to = upstream.app
  }
  route "others" {
    when {
      path = "/admin/**"
    }
    reply {
      status = 403
      body   = "the office only\n"
    }
  }
  route "rest" {
    send_to = upstream.app
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
