"""The words in which pages say what is kept in short."""

CONSTRUCTIONS = {
    "unibody": "unibody",
    "ladder": "body on ladder frame",
    "truck": "heavy truck frame",
    "aluminium": "aluminium",
    "trailer": "trailer",
}
HIT_WHERE = {
    "unknown": "not known",
    "front": "front",
    "rear": "rear",
    "left": "left side",
    "right": "right side",
    "roof": "roof",
    "underneath": "underneath",
}
HIT_FROM = {
    "": "not known",
    "0": "the front",
    "45": "the front right",
    "90": "the right",
    "135": "the rear right",
    "180": "the rear",
    "225": "the rear left",
    "270": "the left",
    "315": "the front left",
}
HIT_HEIGHT = {"unknown": "not known", "low": "low", "middle": "middle", "high": "high"}
