frontend "web" {
  listen = "0.0.0.0:8080"
  route "live" {
    when {
      path = "/seats/[0-9]+" # want: path "/seats/[0-9]+" of "live" looks like a regular expression: it contains [0-9]
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
