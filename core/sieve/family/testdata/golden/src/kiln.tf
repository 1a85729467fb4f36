variable "kiln" {
  type    = string
  default = ["a"]
  foo     = 1
}

output "heat" {
  value = var.nope
}

locals {
  x = unknown_function(3)
  y = terraform_data.missing.id
}

resource "terraform_data" "one" {
  input = local.x
  bogus = 2
}

variable "old" {
  type = "string"
}
