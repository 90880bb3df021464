"""The kinds of place that a stage asks for and a nursery has, as people call them."""

PLACE_KINDS = {
    "shed": "Potting shed",
    "germination": "Germination room",
    "bench": "Glasshouse bench",
    "tunnel": "Tunnel",
    "hotbed": "Hot bed",
    "standing": "Standing-out ground",
    "store": "Cold store",
    "bed": "Nursery bed",
    "field": "Field",
}
