"""Networks: found in a problem by their structure, and solved by the simplex method on trees."""
