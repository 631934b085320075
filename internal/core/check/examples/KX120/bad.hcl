frontend "web" {
  listen = "0.0.0.0:8080"
  route "closed" {
    when {
      host = "tickets.tern.example" # want: requests that "closed" refuses reach "app" with other hosts than tickets.tern.example | by "rest"
      path = "/admin/**"
    }
    reply {
      status = 403
      body   = "not from here\n"
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
