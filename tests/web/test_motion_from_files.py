"""A motion from another application onto a body of a shot, by mouse and keyboard in a real browser."""

from hands import Bench, complaints
from selenium.webdriver.common.by import By

from zembrik.library.shots import create_shot, create_show, get_shot, head_setup

ROWS = [f"{k},{(k - 1) / 12},wagon,{(k - 1) * 100 / 12},0,0,0,0,0,1" for k in range(1, 14)]


def test_a_table_of_tracks_is_handed_in_and_used(address, browser, database, tmp_path):
    box = {"name": "cart", "role": "collider", "mesh": {"shape": "box", "size": [1, 1, 1]}}
    with database.session() as session:
        shot = create_shot(session, create_show(session, "Wagons"), "W1", "Wagon", {"bodies": [box]}).id
    (tmp_path / "wagon.csv").write_text("\n".join(["frame,seconds,body,x,y,z,qx,qy,qz,qw", *ROWS]))
    (tmp_path / "broken.csv").write_text("frame,body,x\n1,wagon,0\n")
    bench = Bench(browser)
    browser.get(f"{address}/shots/{shot}/motion?body=cart")
    bench.wait(lambda: bench.state("state.status"))
    bench.click("#takes > summary")
    bench.click("#motion-file > summary")
    bench.find("#motion-of").send_keys(str(tmp_path / "broken.csv"))
    bench.click("#motion-file .row .quiet")
    bench.wait(lambda: "no column y, z, qx" in bench.find("#taking").text)  # told, and the form is as it was

    bench.find("#motion-of").send_keys(str(tmp_path / "wagon.csv"))
    browser.find_element(By.CSS_SELECTOR, "#motion-file [name=for_whom][value=body]").click()
    bench.find("#motion-file select[name=unit]").send_keys("cm")
    inside = """const box = (e) => e.getBoundingClientRect(), panel = box(document.getElementById('panel'));
    const fields = [...document.querySelectorAll('#motion-file :is(input, select)')];
    return fields.every((e) => box(e).right <= panel.right)"""
    assert browser.execute_script(inside)
    bench.click("#motion-file .row .quiet")
    bench.wait(lambda: "13 moments became 25 frames" in bench.find("#taking").text)
    assert "centimetres, as chosen, with Y up, which it does not say" in bench.find("#taking").text
    bench.click("#taking button")
    bench.wait(lambda: browser.find_elements(By.CSS_SELECTOR, "#takes .takes input[value='wagon.csv']"))
    bench.changed(lambda: bench.click("#takes form[hx-post$='/use-take'] .go"))
    with database.session() as session:
        keys = head_setup(get_shot(session, shot)).bodies[0].motion.translate.keys
    assert (keys[0][0], keys[-1][0]) == (1, 25)
    assert abs(keys[-1][1][0] - 1.0) < 1e-3
    assert complaints(browser) == []
