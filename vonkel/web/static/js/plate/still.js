// Of a large mesh that is being dragged only what moves is drawn: what stands still is drawn once into a picture with
// its depths, a picture a view, and laid under.
import * as THREE from "three";

const LAID = {
  vertexShader:
    "varying vec2 at; void main() { at = position.xy * 0.5 + 0.5; gl_Position = vec4(position.xy, 0.0, 1.0); }",
  fragmentShader:
    "uniform sampler2D colours; uniform sampler2D depths; varying vec2 at;" +
    "void main() { gl_FragColor = texture2D(colours, at); gl_FragDepth = texture2D(depths, at).r; }",
};

/** A mesh on the same buffers as another, of some of its triangles. */
function sharing(mesh, index) {
  const geometry = new THREE.BufferGeometry();
  for (const [name, attribute] of Object.entries(mesh.geometry.attributes)) geometry.setAttribute(name, attribute);
  geometry.setIndex(new THREE.BufferAttribute(index, 1));
  const made = new THREE.Mesh(geometry, mesh.material[0]);
  made.frustumCulled = false;
  return made;
}

export class Still {
  /** @param {THREE.WebGLRenderer} renderer */
  constructor(renderer) {
    this.renderer = renderer;
    this.pictures = new Map(); // view → {target, key}
    this.scenes = { still: new THREE.Scene(), moving: new THREE.Scene(), laid: new THREE.Scene() };
    this.laid = new THREE.ShaderMaterial({
      ...LAID,
      uniforms: { colours: { value: null }, depths: { value: null } },
      depthFunc: THREE.AlwaysDepth,
      blending: THREE.NoBlending,
    });
    const sheet = new THREE.Mesh(new THREE.PlaneGeometry(2, 2), this.laid);
    sheet.frustumCulled = false;
    this.scenes.laid.add(sheet);
    this.camera = new THREE.Camera();
    this.split = -1; // which division of the triangles the scenes hold
  }

  /** Nothing is being dragged: let go of what was made. */
  rest() {
    if (this.split < 0) return;
    for (const { target } of this.pictures.values()) {
      target.depthTexture.dispose();
      target.dispose();
    }
    this.pictures.clear();
    this.empty();
    this.split = -1;
  }

  empty() {
    for (const scene of [this.scenes.still, this.scenes.moving]) {
      for (const mesh of scene.children) {
        const { geometry } = /** @type {THREE.Mesh} */ (mesh);
        // The buffers are the whole mesh's: only the index goes.
        for (const name of Object.keys(geometry.attributes)) geometry.deleteAttribute(name);
        geometry.dispose();
      }
      scene.clear();
    }
  }

  /** Draw one view of a mesh that is being dragged, on the canvas, where viewport and scissor are set. */
  draw(name, drawing, camera, rect) {
    const { renderer } = this,
      { number, still, moving } = drawing.division();
    if (number !== this.split) {
      this.empty();
      this.scenes.still.add(sharing(drawing.mesh, still));
      if (moving.length) this.scenes.moving.add(sharing(drawing.mesh, moving));
      this.split = number;
    }
    const { uniforms } = drawing.material;
    const key = [
      number,
      rect.w,
      rect.h,
      uniforms.fade.value,
      uniforms.mode.value,
      ...camera.matrixWorld.elements,
      ...camera.projectionMatrix.elements,
    ].join();
    const picture = this.picture(name, rect);
    renderer.autoClear = false;
    if (picture.key !== key) {
      picture.key = key;
      renderer.setRenderTarget(picture.target);
      renderer.clear();
      renderer.render(this.scenes.still, camera);
      renderer.setRenderTarget(null);
    }
    this.laid.uniforms.colours.value = picture.target.texture;
    this.laid.uniforms.depths.value = picture.target.depthTexture;
    renderer.render(this.scenes.laid, this.camera);
    renderer.render(this.scenes.moving, camera);
    renderer.autoClear = true;
  }

  picture(name, rect) {
    const ratio = this.renderer.getPixelRatio(),
      [w, high] = [Math.round(rect.w * ratio), Math.round(rect.h * ratio)];
    const had = this.pictures.get(name);
    if (had && had.target.width === w && had.target.height === high) return had;
    had?.target.dispose();
    const target = new THREE.WebGLRenderTarget(w, high, {
      depthTexture: new THREE.DepthTexture(w, high),
      minFilter: THREE.NearestFilter,
      magFilter: THREE.NearestFilter,
      samples: ratio < 1 ? 0 : 4,
    });
    const made = { target, key: "" };
    this.pictures.set(name, made);
    return made;
  }
}
