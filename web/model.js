// The model of a report: a glTF scene that turns, within one page and with no network.
// Bundled into src/tidal_lens/assets/report/model.js by scripts/bundle_model.sh.
import { AmbientLight, Color, DirectionalLight, DoubleSide, PerspectiveCamera, Scene, Vector3, WebGLRenderer } from "three";
import { OrbitControls } from "three/addons/controls/OrbitControls.js";
import { GLTFLoader } from "three/addons/loaders/GLTFLoader.js";

function bytes(text) {
  const raw = atob(text.trim());
  const out = new Uint8Array(raw.length);
  for (let n = 0; n < raw.length; n += 1) out[n] = raw.charCodeAt(n);
  return out.buffer;
}

function show(figure) {
  const said = JSON.parse(figure.dataset.camera);
  const poster = figure.querySelector("img");
  let renderer;
  try {
    renderer = new WebGLRenderer({ antialias: true, preserveDrawingBuffer: true });
  } catch {
    return; // the picture stays
  }
  const scene = new Scene();
  scene.background = new Color(said.ground);
  const camera = new PerspectiveCamera(said.angle, 1.6, said.near, said.far);
  camera.up.set(...said.up);
  camera.position.set(...said.eye);
  scene.add(new AmbientLight(0xffffff, 1.5));
  const lamp = new DirectionalLight(0xffffff, 1.6);
  camera.add(lamp);
  lamp.position.set(-0.4, 0.6, 1.0);
  scene.add(camera);
  const canvas = renderer.domElement;
  canvas.tabIndex = 0;
  canvas.setAttribute("role", "img");
  canvas.setAttribute("aria-label", `${poster.alt} Drag or use the arrow keys to turn it, plus and minus to come nearer.`);
  const controls = new OrbitControls(camera, canvas);
  controls.target.set(...said.focus);
  controls.update();

  function draw() {
    renderer.render(scene, camera);
  }
  function fit() {
    const wide = Math.max(figure.clientWidth, 200);
    const tall = Math.round(wide / 1.6);
    renderer.setPixelRatio(Math.min(window.devicePixelRatio || 1, 2));
    renderer.setSize(wide, tall);
    camera.aspect = wide / tall;
    camera.updateProjectionMatrix();
    draw();
  }
  function turn(across, up) {
    const way = camera.position.clone().sub(controls.target);
    way.applyAxisAngle(camera.up.clone().normalize(), across);
    const side = new Vector3().crossVectors(camera.up, way).normalize();
    const next = way.clone().applyAxisAngle(side, up);
    if (Math.abs(next.clone().normalize().dot(camera.up.clone().normalize())) < 0.99) way.copy(next);
    camera.position.copy(controls.target).add(way);
    controls.update();
    draw();
  }
  canvas.addEventListener("keydown", (event) => {
    const moves = { ArrowLeft: [-0.12, 0], ArrowRight: [0.12, 0], ArrowUp: [0, -0.12], ArrowDown: [0, 0.12] };
    const nearer = { "+": 0.9, "-": 1.1 }[event.key];
    if (moves[event.key]) turn(...moves[event.key]);
    else if (nearer) {
      camera.position.sub(controls.target).multiplyScalar(nearer).add(controls.target);
      controls.update();
      draw();
    } else return;
    event.preventDefault();
  });
  controls.addEventListener("change", draw);
  new GLTFLoader().parse(bytes(document.getElementById(figure.dataset.model).textContent), "", (model) => {
    model.scene.traverse((one) => {
      if (one.material) one.material.side = DoubleSide;
      if (one.geometry && one.isMesh) one.geometry.computeVertexNormals();
    });
    scene.add(model.scene);
    poster.replaceWith(canvas);
    fit();
    figure.dataset.ready = "yes";
    window.addEventListener("resize", fit);
  });
}

document.querySelectorAll("figure[data-model]").forEach(show);
