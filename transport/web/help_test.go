package web_test

import "ullage/fleet/fault"

func faultCode(s string) fault.Code { return fault.Code(s) }
