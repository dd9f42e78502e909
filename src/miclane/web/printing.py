from fastapi import APIRouter

router = APIRouter()


class Printer:
    def __init__(self, studio) -> None:
        self.studio = studio
