/** A model drawn by three.js with the formulas of the core: Lambert's cosine with a floor, Blinn's highlight. */
import {
  Box3,
  type BufferGeometry,
  Color,
  DoubleSide,
  FrontSide,
  Group,
  LineBasicMaterial,
  LineSegments,
  Mesh,
  NoColorSpace,
  OrthographicCamera,
  Raycaster,
  RepeatWrapping,
  Scene,
  ShaderMaterial,
  type Texture,
  TextureLoader,
  Vector2,
  Vector3,
  Vector4,
  WebGLRenderer,
  WireframeGeometry,
} from "three";
import { GLTFLoader } from "three/examples/jsm/loaders/GLTFLoader.js";

/** One channel of a picture, 0 to 3; ``turned``: white for black. */
export type Channel = { texture: string; channel: number; turned: boolean };

/** A part as it is dressed: its texture's address, or a colour; and what its material says of light. */
export type Dress = {
  name: string;
  normal: string | null;
  /** how much it shines, how much light from everywhere comes there: a channel of a picture each */
  gloss: Channel | null;
  occlusion: Channel | null;
  /** what it shines of its own */
  emission: string | null;
  colour: readonly number[];
  texture: string | null;
  floor: readonly number[] | null;
  highlight: number | null;
  twoSided: boolean;
  /** what is seen through: 1 is nothing, and what is half clear in the texture is clear or not */
  opacity: number;
  blend: boolean;
};
export type Look = {
  yaw: number;
  pitch: number;
  zoom: number;
  textured: boolean;
  edges: boolean;
  direction: readonly number[];
  /** null: as each material says, or else the game */
  floor: number | null;
  highlight: number | null;
  shininess: number;
  usual: { floor: number; highlight: number };
  /** the part that lights up */
  lit: string | null;
};

/** The share of its room that a model fills, as in the core's pictures. */
const FILLS = 0.92;
const VERTEX = `
varying vec3 turned; varying vec2 place; varying vec3 seen;
void main() {
  turned = normalMatrix * normal; place = uv;
  vec4 here = modelViewMatrix * vec4(position, 1.0);
  seen = here.xyz;
  gl_Position = projectionMatrix * here;
}`;
const FRAGMENT = `
varying vec3 turned; varying vec2 place; varying vec3 seen;
uniform sampler2D bumps; uniform bool bumped; uniform float lit;
uniform sampler2D gloss; uniform vec4 glossy; uniform vec2 glossed;
uniform sampler2D occlusion; uniform vec4 occluding; uniform vec2 occluded;
uniform sampler2D emission; uniform bool emits;
uniform bool blend; uniform float opacity;
// A channel of a picture, times and plus: (0, 1) where there is none.
float told(sampler2D map, vec4 which, vec2 how) { return dot(texture2D(map, place), which) * how.x + how.y; }
uniform sampler2D map; uniform bool textured; uniform vec3 colour; uniform vec3 least; uniform vec3 light; uniform vec3 halfway;
uniform float highlight; uniform float shininess;
void main() {
  vec4 base = textured ? texture2D(map, place) : vec4(colour, 1.0);
  float alpha = blend ? base.a * opacity : opacity;
  if (blend ? alpha < 0.004 : base.a < 0.5) discard;
  vec3 n = normalize(turned);
  if (bumped) {
    // Where u and v lead on the screen (without tangents): green is up on the picture, so v goes down.
    vec3 across = dFdx(seen), down = dFdy(seen);
    vec2 s = dFdx(place), t = dFdy(place);
    float area = s.x * t.y - s.y * t.x;
    if (abs(area) > 1e-12) {
      vec3 u = normalize((across * t.y - down * s.y) / area), v = normalize((down * s.x - across * t.x) / area);
      vec3 bump = texture2D(bumps, place).xyz * 2.0 - 1.0;
      if (bump.z <= 0.0) bump.z = sqrt(max(1.0 - dot(bump.xy, bump.xy), 0.0));
      n = normalize(u * bump.x - v * bump.y + n * bump.z);
    }
  }
  if (n.z < 0.0) n = -n;
  float facing = max(dot(n, light), 0.0);
  float shine = facing > 0.0 ? highlight * pow(max(dot(n, halfway), 0.0), shininess) : 0.0;
  shine *= told(gloss, glossy, glossed);
  vec3 shown = base.rgb * (least * told(occlusion, occluding, occluded) + (1.0 - least) * facing) + shine;
  if (emits) shown += texture2D(emission, place).rgb;
  gl_FragColor = vec4(mix(shown, vec3(0.95, 0.75, 0.2), lit), alpha);
}`;

export async function load(url: string): Promise<Group> {
  const answer = await fetch(url);
  if (!answer.ok) throw new Error(`The model could not be loaded (${answer.status}).`);
  const { scene } = await new GLTFLoader().parseAsync(await answer.arrayBuffer(), "");
  return scene;
}

export class Stage {
  private readonly renderer: WebGLRenderer;
  private readonly scene = new Scene();
  private readonly camera = new OrthographicCamera(-1, 1, 1, -1, -10, 10);
  private readonly turning = new Group();
  private parts: { name: string; mesh: Mesh; shader: ShaderMaterial; lines: LineSegments | null }[] = [];
  private readonly textures = new Map<string, Texture>();
  private look: Look | null = null;
  private dresses: Dress[] = [];

  constructor(canvas: HTMLCanvasElement) {
    this.renderer = new WebGLRenderer({ canvas, alpha: true, antialias: true, preserveDrawingBuffer: true });
    // Colours are as they are stored, on the way in and out.
    this.renderer.outputColorSpace = "srgb-linear";
    this.scene.add(this.turning);
  }

  /** Puts a model into the room; ``radius``: how far it reaches, so that it keeps its size while it is turned. */
  show(model: Group, radius: number): void {
    this.empty();
    const meshes: Mesh[] = [];
    model.updateMatrixWorld(true);
    model.traverse((one) => one instanceof Mesh && meshes.push(one));
    const box = new Box3();
    for (const mesh of meshes) {
      // A copy: the same model is shown again when the room changes.
      const geometry = (mesh.geometry as BufferGeometry).clone();
      geometry.applyMatrix4(mesh.matrixWorld);
      if (!geometry.getAttribute("normal")) geometry.computeVertexNormals();
      geometry.computeBoundingBox();
      if (geometry.boundingBox) box.union(geometry.boundingBox);
      const shader = new ShaderMaterial({
        vertexShader: VERTEX,
        fragmentShader: FRAGMENT,
        uniforms: {
          map: { value: null },
          bumps: { value: null },
          bumped: { value: false },
          gloss: { value: null },
          glossy: { value: new Vector4(1, 0, 0, 0) },
          glossed: { value: new Vector2(0, 1) },
          occlusion: { value: null },
          occluding: { value: new Vector4(1, 0, 0, 0) },
          occluded: { value: new Vector2(0, 1) },
          emission: { value: null },
          emits: { value: false },
          blend: { value: false },
          opacity: { value: 1 },
          lit: { value: 0 },
          textured: { value: false },
          colour: { value: new Color(0.8, 0.8, 0.8) },
          least: { value: new Vector3() },
          light: { value: new Vector3(0, 0, 1) },
          halfway: { value: new Vector3(0, 0, 1) },
          highlight: { value: 0 },
          shininess: { value: 24 },
        },
      });
      const name = (mesh.material as { name?: string }).name ?? "";
      this.parts.push({ name, mesh: new Mesh(geometry, shader), shader, lines: null });
    }
    const held = new Group();
    for (const { mesh } of this.parts) held.add(mesh);
    held.position.copy(box.getCenter(new Vector3()).negate());
    this.turning.add(held);
    this.turning.scale.setScalar(1 / Math.max(radius, 1e-9));
    this.draw();
  }

  dress(dresses: Dress[]): void {
    this.dresses = dresses;
    const pictures = (one: Dress) => [
      one.texture,
      one.normal,
      one.emission,
      one.gloss?.texture,
      one.occlusion?.texture,
    ];
    for (const texture of dresses.flatMap(pictures)) {
      if (texture == null || this.textures.has(texture)) continue;
      const made = new TextureLoader().load(texture, () => this.draw());
      made.flipY = false;
      made.colorSpace = NoColorSpace;
      made.wrapS = made.wrapT = RepeatWrapping;
      this.textures.set(texture, made);
    }
    this.draw();
  }

  see(look: Look): void {
    this.look = look;
    this.draw();
  }

  /** The part at a place of the canvas, -1 to 1 to the right and up. */
  part(x: number, y: number): string | null {
    const ray = new Raycaster();
    ray.setFromCamera(new Vector2(x, y), this.camera);
    ray.ray.origin.setZ(this.camera.far); // before all of it: the camera stands in the middle
    const hit = ray.intersectObjects(
      this.parts.map(({ mesh }) => mesh),
      false,
    )[0];
    return this.parts.find(({ mesh }) => mesh === hit?.object)?.name ?? null;
  }

  resize(width: number, height: number): void {
    this.renderer.setPixelRatio(window.devicePixelRatio);
    this.renderer.setSize(width, height, false);
    const [across, up] = width > height ? [width / height, 1] : [1, height / width];
    this.camera.left = -across / FILLS;
    this.camera.right = across / FILLS;
    this.camera.top = up / FILLS;
    this.camera.bottom = -up / FILLS;
    this.draw();
  }

  private draw(): void {
    const look = this.look;
    if (!look) return;
    this.camera.zoom = look.zoom;
    this.camera.updateProjectionMatrix();
    this.turning.rotation.set((look.pitch * Math.PI) / 180, (look.yaw * Math.PI) / 180, 0);
    const [x = 0, y = 0, z = 1] = look.direction;
    const light = new Vector3(x, y, z).normalize();
    const halfway = light
      .clone()
      .add(new Vector3(0, 0, 1))
      .normalize();
    for (const part of this.parts) {
      const dress = this.dresses.find((one) => one.name === part.name);
      const bumps = dress?.normal ? this.textures.get(dress.normal) : undefined;
      const texture = dress?.texture ? this.textures.get(dress.texture) : undefined;
      const values = part.shader.uniforms as Record<string, { value: unknown }>;
      const set = (name: string, value: unknown) => {
        const uniform = values[name];
        if (uniform) uniform.value = value;
      };
      set("map", texture ?? null);
      set("bumps", bumps ?? null);
      set("bumped", look.textured && bumps?.image != null);
      const of = (name: string, which: string, how: string, channel: Channel | null | undefined) => {
        const picture = channel && look.textured ? this.textures.get(channel.texture) : undefined;
        const there = picture?.image != null;
        set(name, there ? picture : null);
        set(which, new Vector4(...[0, 1, 2, 3].map((one) => Number(one === (channel?.channel ?? 0)))));
        set(how, there ? new Vector2(channel?.turned ? -1 : 1, channel?.turned ? 1 : 0) : new Vector2(0, 1));
      };
      of("gloss", "glossy", "glossed", dress?.gloss);
      of("occlusion", "occluding", "occluded", dress?.occlusion);
      const glow = dress?.emission && look.textured ? this.textures.get(dress.emission) : undefined;
      set("emission", glow ?? null);
      set("emits", glow?.image != null);
      set("lit", look.lit === part.name ? 0.45 : 0);
      set("textured", look.textured && texture?.image != null);
      set("colour", new Color().fromArray([...(dress?.colour ?? [0.8, 0.8, 0.8])]));
      const least = look.floor ?? dress?.floor ?? look.usual.floor;
      set("least", typeof least === "number" ? new Vector3(least, least, least) : new Vector3(...least));
      set("light", light);
      set("halfway", halfway);
      set("highlight", look.highlight ?? dress?.highlight ?? look.usual.highlight);
      set("shininess", look.shininess);
      const clear = (dress?.blend ?? false) || (dress?.opacity ?? 1) < 1;
      set("blend", dress?.blend ?? false);
      set("opacity", dress?.opacity ?? 1);
      part.shader.transparent = clear;
      part.shader.depthWrite = !clear;
      part.mesh.renderOrder = clear ? 1 : 0; // behind what is seen through stands what is solid
      part.shader.side = (dress?.twoSided ?? true) ? DoubleSide : FrontSide;
      if (look.edges && !part.lines) {
        part.lines = new LineSegments(
          new WireframeGeometry(part.mesh.geometry),
          new LineBasicMaterial({ color: 0x2b2420, transparent: true, opacity: 0.55 }),
        );
        part.mesh.add(part.lines);
      }
      if (part.lines) part.lines.visible = look.edges;
    }
    this.renderer.render(this.scene, this.camera);
  }

  private empty(): void {
    for (const { mesh, shader, lines } of this.parts) {
      mesh.geometry.dispose();
      shader.dispose();
      lines?.geometry.dispose();
    }
    this.parts = [];
    this.turning.clear();
  }

  end(): void {
    this.empty();
    for (const texture of this.textures.values()) texture.dispose();
    this.renderer.dispose();
  }
}
