access_log {
  to   = "access.log"
  line = "{client} {time} \"{request}\" {status} {duration/ms} \"{header:Tern-Voyage}\" {request_id}"
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
  algorithm = "hash"
  hash {
    key  = "header"
    name = "Tern-Voyage"
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
