frontend "web" {
  listen = "0.0.0.0:8080"
  route "closed" {
    when {
      path = "/admin/*" # want: "closed" refuses /admin/*, and other paths below /admin/ reach "app" | GET http://tern.example/admin goes to "rest"
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
