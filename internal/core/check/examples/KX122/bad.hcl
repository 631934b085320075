frontend "web" {
  listen = "0.0.0.0:8080"
  route "live" {
    when {
      host = "*" # want: host "*" of "live" is one label | tickets.tern.example does not match "*", localhost does
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
