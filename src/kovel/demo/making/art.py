"""skia drawing helpers + portrait. All art is procedural."""
import skia, math, random, numpy as np
W,H=1280,720
def col(h,a=1.0): h=h.lstrip('#'); return skia.Color(int(h[0:2],16),int(h[2:4],16),int(h[4:6],16),int(a*255))
def lin(p,q,cs,pos=None): return skia.GradientShader.MakeLinear([p,q],[c if isinstance(c,int) else col(c) for c in cs],pos)
def rad(p,r,cs,pos=None): return skia.GradientShader.MakeRadial(p,r,[c if isinstance(c,int) else col(c) for c in cs],pos)
def paint(c=None,a=1.0,sh=None,w=None,blur=0,cap=True):
    p=skia.Paint(AntiAlias=True)
    if c is not None: p.setColor(col(c,a))
    if sh is not None: p.setShader(sh); p.setAlphaf(a)
    if w: p.setStyle(skia.Paint.kStroke_Style); p.setStrokeWidth(w); p.setStrokeCap(skia.Paint.kRound_Cap); p.setStrokeJoin(skia.Paint.kRound_Join)
    if blur: p.setMaskFilter(skia.MaskFilter.MakeBlur(skia.kNormal_BlurStyle,blur))
    return p
def path(*ops):
    """path((x,y),('c',x1,y1,x2,y2,x,y),('q',..),('l',..),'z')"""
    p=skia.Path()
    for o in ops:
        if o=='z': p.close()
        elif o[0]=='c': p.cubicTo(*o[1:])
        elif o[0]=='q': p.quadTo(*o[1:])
        elif o[0]=='l': p.lineTo(*o[1:])
        else: p.moveTo(*o)
    return p
def smooth(pts,close=True):
    """Catmull-Rom path through points"""
    p=skia.Path(); n=len(pts); p.moveTo(*pts[0])
    for i in range(n if close else n-1):
        g=lambda k: pts[k%n] if close else pts[max(0,min(n-1,k))]
        a,b,c,d=g(i-1),g(i),g(i+1),g(i+2)
        p.cubicTo(b[0]+(c[0]-a[0])/6,b[1]+(c[1]-a[1])/6,c[0]-(d[0]-b[0])/6,c[1]-(d[1]-b[1])/6,c[0],c[1])
    if close: p.close()
    return p
def rect(c,x,y,w,h,p,r=0): c.drawRRect(skia.RRect.MakeRectXY(skia.Rect.MakeXYWH(x,y,w,h),r,r),p)
def oval(c,x,y,rx,ry,p): c.drawOval(skia.Rect.MakeXYWH(x-rx,y-ry,2*rx,2*ry),p)
def surf(w=W,h=H): return skia.Surface(w,h)
def blurred(img,s):
    o=surf(img.width(),img.height()); p=skia.Paint(ImageFilter=skia.ImageFilters.Blur(s,s,skia.TileMode.kClamp)); o.getCanvas().drawImage(img,0,0,skia.SamplingOptions(),p); return o.makeImageSnapshot()
def vignette(c,a=.45): c.drawRect(skia.Rect.MakeWH(W,H),paint(sh=rad((W*.48,H*.45),W*.72,[col('05080f',0),col('05080f',a*.03),col('05080f',a*.16),col('05080f',a*.42),col('05080f',a)],[0,.4,.6,.8,1])))
_gr=None
def grain(c,k,a=.05,n=1):
    """n=1: static film texture (cheap to encode); n>1: n alternating plates"""
    global _gr
    if _gr is None:
        rs=np.random.RandomState(3); _gr=[]
        for i in range(8):
            g=rs.normal(128,46,(H//2,W//2)); z=np.empty((H//2,W//2,4),np.uint8); z[...,:3]=np.clip(g,0,255)[...,None]; z[...,3]=255; _gr.append(skia.Image.fromarray(z,colorType=skia.kRGBA_8888_ColorType))
    p=skia.Paint(); p.setBlendMode(skia.BlendMode.kOverlay); p.setAlphaf(a)
    c.drawImageRect(_gr[k%n],skia.Rect.MakeWH(W,H),skia.SamplingOptions(skia.FilterMode.kLinear),p)
def frame(s): return s.toarray(colorType=skia.kRGBA_8888_ColorType)

# ---------- boat-shed background (drawn sharp at 2x width so both cameras pan inside it) ----------
def shed():
    BW=1900; s=surf(BW,H); c=s.getCanvas(); R=random.Random(5)
    c.drawRect(skia.Rect.MakeWH(BW,H),paint(sh=lin((0,0),(BW,0),['#6a5947','#4d4239','#2c2a2b'])))
    for i in range(30):                                  # planks
        x=i*66; c.drawRect(skia.Rect.MakeXYWH(x,0,64,H),paint('#8a6f52',.10+.12*R.random())); c.drawRect(skia.Rect.MakeXYWH(x+63,0,3,H),paint('#1b1614',.55))
    # window: creek outside
    wx,wy,ww,wh=150,60,560,400
    c.save(); c.clipRect(skia.Rect.MakeXYWH(wx,wy,ww,wh))
    c.drawRect(skia.Rect.MakeXYWH(wx,wy,ww,wh),paint(sh=lin((0,wy),(0,wy+wh),['#cfe3ea','#f6e9cf','#f3d9ab'],[0,.5,1])))
    c.drawPath(smooth([(wx-20,wy+210),(wx+80,wy+180),(wx+200,wy+205),(wx+330,wy+170),(wx+470,wy+195),(wx+620,wy+165),(wx+620,wy+290),(wx-20,wy+290)]),paint('#7f9a86'))
    c.drawPath(smooth([(wx-20,wy+240),(wx+150,wy+222),(wx+300,wy+240),(wx+600,wy+215),(wx+620,wy+300),(wx-20,wy+300)]),paint('#5d7c68'))
    c.drawRect(skia.Rect.MakeXYWH(wx,wy+262,ww,200),paint(sh=lin((0,wy+262),(0,wy+wh),['#c9d9cf','#7fa3a4'])))
    for i in range(16): rect(c,wx+R.random()*ww,wy+275+R.random()*110,40+70*R.random(),3,paint('#ffffff',.55),2)
    for i in range(40):
        x=wx+R.random()*ww; h=60+R.random()*90; c.drawPath(path((x,wy+wh),('q',x+6,wy+wh-h*.6,x+R.uniform(-16,22),wy+wh-h)),paint('#4e6a45',.85,w=5))
    c.restore()
    for r in ((wx-18,wy-18,ww+36,20),(wx-18,wy+wh,ww+36,26),(wx-18,wy-18,20,wh+40),(wx+ww-2,wy-18,20,wh+40),(wx+ww/2-6,wy,13,wh),(wx,wy+wh*.48,ww,11)): rect(c,*r,paint('#d9c7a4'),2)
    c.drawRect(skia.Rect.MakeXYWH(wx-18,wy+wh+22,ww+36,14),paint('#000000',.35))
    for x,h,k in ((200,56,'#b5523b'),(250,38,'#2f5d6e'),(300,70,'#c79a42'),(610,48,'#7c8b6a'),(655,62,'#93402f')): rect(c,x,wy+wh-h,34,h,paint(k),6)   # jars on sill
    # shelf w/ tools right
    for sy in (250,420):
        rect(c,900,sy,900,18,paint('#8b673f')); rect(c,900,sy+18,900,10,paint('#000000',.4))
        x=925
        while x<1760:
            w=R.choice([26,38,52,70]); h=R.randint(34,105); rect(c,x,sy-h,w,h,paint(R.choice(['#b5523b','#356072','#c79a42','#6d7f68','#a97c50','#d8cbb0','#40525e'])),R.choice([3,8,14])); x+=w+R.randint(8,42)
    for r_ in (74,58,42): c.drawCircle(1250,110,r_,paint('#c9a566',1,w=13))                # rope coil
    c.drawLine(1250,0,1250,40,paint('#c9a566',1,w=12))
    # boat ribs leaning + bench
    for i in range(6): c.drawPath(path((1420+i*62,720),('q',1380+i*70,560,1480+i*56,470)),paint('#a67b4c',1,w=18))
    c.drawRect(skia.Rect.MakeXYWH(0,610,BW,110),paint(sh=lin((0,610),(0,720),['#6b5138','#2b211b'])))
    c.drawCircle(1040,70,30,paint('#ffd98a')); c.drawCircle(1040,70,150,paint(sh=rad((1040,70),150,[col('ffcf7a',.55),col('ffcf7a',0)])))  # lamp
    # window light spill
    c.drawPath(path((wx,wy),('l',wx+ww,wy),('l',wx+ww+520,H),('l',wx-80,H),'z'),paint('#ffe9bf',.13,blur=40))
    return s.makeImageSnapshot()

LOOK=dict(
 maren=dict(skin=('#f3cdb0','#dca585','#a8694f'),lip='#b0605a',lipd='#8d4444',iris='#4f7d86',hair=('#f1efe9','#b9b7b4','#7b7a7d'),brow='#a39d95',coat=('#e6b23f','#b97f22','#6e4714'),knit=('#2f4d63','#1c3040'),age=1.0,beard=False,fw=1.0),
 tobin=dict(skin=('#e9b48f','#c48761','#83492f'),lip='#a8615a',lipd='#6e3631',iris='#5d4630',hair=('#7a5b42','#4a3428','#2a1d18'),brow='#3d2b21',coat=('#57788a','#36505f','#1c2c37'),knit=('#ded2b8','#a5967a'),age=.55,beard=True,fw=1.08),
 odile=dict(skin=('#d9a679','#b57b50','#7a4b30'),lip='#a9504c',lipd='#742f31',iris='#4a3423',hair=('#4a3a33','#2b2120','#15100f'),brow='#2a1f1b',coat=('#7f9a7a','#556f55','#2f4233'),knit=('#f0e3c8','#c8b48d'),age=.12,beard=False,fw=.95))

def person(c,who,t,mouth=0,wide=0,blink=0,yaw=.3,tilt=0,dx=0,dy=0,gaze=0,breath=0,brow=0):
    """Origin: centre of the face. Face about 190x270. yaw -1..1 (neg = looks screen left). Key light from screen left."""
    L=LOOK[who]; k=L['skin']; h=L['hair']; ct=L['coat']; kn=L['knit']; fw=L['fw']; f=yaw*30; b=breath
    # ----- body
    c.save(); c.translate(0,b*2.5)
    body=smooth([(-70,150),(-150,190),(-262,232),(-318,330),(-350,520),(-350,700),(350,700),(348,520),(318,330),(262,232),(150,190),(70,150)])
    if who=='maren':   # coat silhouette
        c.drawPath(body,paint(sh=lin((-320,200),(340,400),[ct[0],ct[1],ct[2]],[0,.55,1])))
    else: c.drawPath(body,paint(sh=lin((-320,200),(340,400),[ct[0],ct[1],ct[2]],[0,.5,1])))
    c.save(); c.clipPath(body,True)
    c.drawPath(path((-270,230),('q',-215,420,-222,700)),paint(ct[2],.5,w=5)); c.drawPath(path((262,230),('q',210,420,218,700)),paint('#000000',.28,w=6))
    for x0,y0,x1,y1 in ((-250,330,-190,430),(-300,420,-220,500),(230,330,190,440),(290,430,210,520)): c.drawPath(path((x0,y0),('q',(x0+x1)/2+14,y0+30,x1,y1)),paint(ct[2],.28,w=9,blur=4))
    c.drawPath(smooth([(40,140),(360,150),(380,720),(120,720),(70,380)]),paint('#1a0f08',.22,blur=26))
    # sweater / shirt opening
    inner=smooth([(-66,148),(-96,190),(-60,330),(-38,700),(62,700),(70,330),(98,190),(66,148)])
    c.drawPath(inner,paint(sh=lin((-90,180),(100,240),[kn[0],kn[1]])))
    c.save(); c.clipPath(inner,True)
    if who=='maren':
        for r in range(30):
            for q in range(-6,7): 
                x=q*18; y=190+r*17; c.drawPath(path((x-6,y),('l',x,y+8),('l',x+6,y)),paint('#6f92a6',.30,w=2.4))
    else:
        for r in range(6): oval(c,8,250+r*62,5,5,paint('#5b4a33',.8))
    c.restore()
    # lapels / collar
    c.drawPath(smooth([(-72,146),(-128,178),(-150,250),(-92,300),(-52,420),(-66,300),(-90,215)]),paint(sh=lin((-150,170),(-40,320),[ct[0],ct[1]])))
    c.drawPath(smooth([(72,146),(130,178),(154,250),(98,300),(66,420),(78,300),(94,215)]),paint(sh=lin((40,170),(160,320),[ct[1],ct[2]])))
    c.drawPath(path((-318,330),('q',-262,232,-150,190)),paint('#fff0c8',.30,w=7,blur=6))
    if who=='maren':
        for y in (360,450): oval(c,-104,y,11,11,paint('#5a3a16')); oval(c,-106,y-2,5,5,paint('#c9a26a',.7))
    c.restore(); c.restore()
    # ----- neck
    c.save(); c.translate(0,b*1.4)
    neck=smooth([(-58,70),(-56,150),(-78,186),(0,226),(78,186),(58,150),(60,70)])
    c.drawPath(neck,paint(sh=lin((-60,100),(64,130),[k[0],k[1],k[2]],[0,.45,1])))
    c.save(); c.clipPath(neck,True); c.drawPath(smooth([(-90,70),(90,70),(84,140),(f*.4+10,176),(-70,128)]),paint(k[2],.62,blur=9)); c.restore()
    if who=='maren':   # roll neck
        rn=smooth([(-74,138),(-50,158),(0,170),(52,158),(76,138),(92,196),(50,226),(0,236),(-50,226),(-92,196)])
        c.drawPath(rn,paint(sh=lin((-90,150),(94,200),['#4a6f88','#2f4d63','#182936'],[0,.45,1])))
        c.save(); c.clipPath(rn,True)
        for i in range(-9,10): c.drawPath(path((i*10,140),('q',i*10.6,190,i*11,240)),paint('#0e1c26',.35,w=2.5))
        c.drawPath(smooth([(-90,130),(90,130),(70,166),(0,182),(-64,164)]),paint('#081018',.45,blur=7)); c.restore()
    c.restore()
    # ----- head
    c.save(); c.translate(dx,dy+b*.8); c.rotate(tilt,0,150)
    jaw=mouth*9
    if who=='maren':   # hair behind + bun
        oval(c,62-f*1.6,-142,50,44,paint(sh=rad((46-f*1.6,-160),72,[h[0],h[1],h[2]])))
        for i in range(5): c.drawPath(path((24-f*1.6+i*6,-150+i*9),('q',62-f*1.6,-186+i*16,104-f*1.6-i*4,-146+i*10)),paint(h[2],.35,w=2))
        c.drawPath(smooth([(-104-f*.2,-40),(-98,-110),(-50,-160),(10,-168),(72,-152),(108,-96),(110-f*.2,-20),(98,50),(80,84),(-82,80),(-100,40)]),paint(sh=lin((-110,-100),(112,-40),[h[0],h[1],h[2]],[0,.5,1])))
    elif who=='odile': c.drawPath(smooth([(-108,-40),(-112,-108),(-62,-160),(8,-172),(78,-156),(118,-104),(122,-20),(118,70),(96,128),(58,120),(70,60),(-64,60),(-58,122),(-98,126),(-114,60)]),paint(sh=lin((-118,-100),(118,-20),[h[0],h[1],h[2]])))
    else: c.drawPath(smooth([(-100,-30),(-96,-100),(-50,-140),(10,-146),(70,-134),(103,-80),(104,-10),(96,40),(-94,40)]),paint(sh=lin((-100,-60),(104,-20),[h[0],h[1],h[2]])))
    # ears
    for sx in (-1,1):
        vis=1+sx*yaw*-.35; ex=sx*(95*fw)-f*.55
        oval(c,ex,10,15*max(.5,vis),31,paint(k[1] if sx<0 else k[2])); oval(c,ex+sx*1,12,8*max(.4,vis),19,paint(k[2],.45,blur=3))
        if who=='maren': c.drawCircle(ex,46,4.5,paint('#e9d28a'))
    face=smooth([(-93*fw,-40),(-96*fw,12),(-88*fw,66),(-66*fw+f*.15,114),(-30+f*.35,142+jaw),(f*.45,148+jaw),(32+f*.35,142+jaw),(67*fw+f*.15,113),(89*fw,64),(96*fw,10),(93*fw,-42),(74,-106),(30,-136),(-30,-136),(-74,-106)])
    c.drawPath(face,paint(sh=lin((-100,-30),(104,40),[k[0],k[0],k[1],k[2]],[0,.28,.66,1])))
    c.save(); c.clipPath(face,True)
    # planes: shadow side, cheek blush, forehead light, under-brow
    c.drawPath(smooth([(58+f*.5,-140),(120,-120),(124,150),(20+f,170),(50+f*.6,96),(66+f*.3,30),(52+f*.5,-40)]),paint(k[2],.40,blur=16))
    for sx in (-1,1): oval(c,sx*54+f*.9,52,34,24,paint('#d3604d',.20 if sx<0 else .14,blur=14))
    oval(c,-34+f*.5,-84,46,26,paint('#fff3df',.30,blur=16)); oval(c,-62+f*.4,24,18,14,paint('#fff3df',.28,blur=9))
    for sx in (-1,1): oval(c,sx*42+f,-18,32,20,paint(k[2],.30,blur=9))
    c.drawPath(smooth([(-70,-150),(70,-150),(96,-70),(60,-104),(0,-116),(-60,-102),(-96,-66)]),paint('#3a2018',.22,blur=10))
    c.drawPath(path((-40+f*.4,138+jaw),('q',f*.45,158+jaw,44+f*.4,136+jaw)),paint(k[2],.5,w=14,blur=8))
    ag=L['age']
    for sx in (-1,1):  # folds + crow's feet + eye bags
        c.drawPath(path((sx*24+f*1.15,46),('q',sx*44+f*1.0,62,sx*43+f*.95,88+jaw*.4)),paint(k[2],.55*ag,w=3.0,blur=1.6))
        for i in range(3): c.drawPath(path((sx*67+f*.85,-16+i*5),('q',sx*76+f*.8,-19+i*9,sx*84+f*.7,-22+i*13)),paint(k[2],.34*ag,w=1.8))
        c.drawPath(path((sx*28+f,8),('q',sx*44+f,17,sx*60+f*.95,7)),paint(k[2],.42*ag,w=2.2,blur=1))
    for i in range(3): c.drawPath(path((-46+f*.6,-72-i*13-brow*2),('q',f*.7,-79-i*13-brow*2,46+f*.6,-71-i*13-brow*2)),paint(k[2],.24*ag,w=2,blur=.8))
    c.restore()
    # beard (under mouth)
    if L['beard']:
        bd=smooth([(-95*fw,6),(-89*fw,72),(-70+f*.15,126),(-34+f*.35,166+jaw),(f*.45,174+jaw),(36+f*.35,166+jaw),(72+f*.15,126),(90*fw,72),(96*fw,4),(82,50),(58+f*.8,68),(34+f,58),(f*1.1,56),(-34+f,58),(-58+f*.8,68),(-82,52)])
        c.drawPath(bd,paint(sh=lin((-96,60),(98,100),[h[0],h[1],h[2]],[0,.4,1])))
        c.save(); c.clipPath(bd,True); R=random.Random(4)
        for i in range(150):
            x=R.uniform(-96,96); y=R.uniform(20,160); c.drawPath(path((x,y),('q',x+R.uniform(-3,3)+f*.05,y+8,x*.96+R.uniform(-4,4),y+17+jaw*.4)),paint(R.choice([h[0],'#a88a6c','#201511']),.38,w=1.8))
        c.restore()
    # nose
    nx=f*1.35
    c.drawPath(smooth([(nx+3-f*.2,-16),(nx+15,18),(nx+22,36),(nx+10,46),(nx-2,44),(nx+4,18)]),paint(k[2],.50,blur=4))
    c.drawPath(path((nx-2-f*.2,-14),('q',nx-5,14,nx-5,30)),paint('#fff3e2',.55,w=7,blur=4)); oval(c,nx-4,33,7,6,paint('#fff3e2',.5,blur=3))
    c.drawPath(path((nx-20,38),('c',nx-20,50,nx-8,46,nx-1,49)),paint(k[2],.75,w=2.6)); c.drawPath(path((nx+21,37),('c',nx+21,49,nx+9,46,nx+1,49)),paint('#6b3a2a',.75,w=2.8))
    for sx in (-1,1): oval(c,nx+sx*9.5,45,5,2.6,paint('#57281c',.65,blur=1))
    # eyes
    for sx in (-1,1):
        ex=sx*41+f*1.02; ey=-13; far=1-max(0,sx*yaw)*.22; ew=21.5*far; op=max(0,1-blink); eh=10.0*op
        if op>.12:
            e=path((ex-ew,ey+2),('c',ex-ew*.5,ey-eh*1.25,ex+ew*.45,ey-eh*1.25,ex+ew,ey+1),('c',ex+ew*.5,ey+eh*.85,ex-ew*.5,ey+eh*.95,ex-ew,ey+2),'z')
            c.drawPath(e,paint('#f6efe6')); c.save(); c.clipPath(e,True)
            ix=ex+gaze*5+yaw*3; c.drawCircle(ix,ey-.5,9.6,paint(sh=rad((ix,ey+2),10,[L['iris'],L['iris'],'#22323a'],[0,.55,1]))); c.drawCircle(ix,ey-.5,4.4,paint('#120d0c')); c.drawCircle(ix-3.4,ey-4,2.6,paint('#ffffff',.95)); c.drawCircle(ix+3.4,ey+3,1.3,paint('#ffffff',.5))
            oval(c,ex,ey-eh*1.05,ew*1.1,5,paint('#40241c',.35,blur=2.5)); c.restore()
            c.drawPath(path((ex-ew-1,ey+2),('c',ex-ew*.5,ey-eh*1.3,ex+ew*.45,ey-eh*1.3,ex+ew+1.5,ey+1)),paint('#3a221b',.95,w=3.2))
            c.drawPath(path((ex-ew*.8,ey+5),('q',ex,ey+eh+2.5,ex+ew*.85,ey+4)),paint('#7c4a3a',.5,w=1.6))
        else: c.drawPath(path((ex-ew,ey+3),('q',ex,ey+10,ex+ew,ey+3)),paint('#3a221b',.95,w=3.4))
        c.drawPath(path((ex-ew*.95,ey-9*op-3+blink*3),('q',ex,ey-19+blink*6,ex+ew,ey-8-2*op)),paint(k[2],.65,w=2.2))
        by=-44-brow*5; c.drawPath(smooth([(ex-sx*20,by+4),(ex+sx*4,by-5),(ex+sx*27*far,by+5),(ex+sx*25*far,by+8),(ex+sx*3,by+2.5),(ex-sx*20,by+10)]),paint(L['brow'],.92))
    # mouth
    mx=f*1.08; my=85+jaw*.35; mw=30+wide*7; mo=mouth*19; far=1-abs(yaw)*.1; mw*=far
    if L['beard']: c.drawPath(smooth([(mx-40,my+6),(mx-30,my-18),(mx-4,my-27),(mx+4,my-27),(mx+32,my-18),(mx+42,my+6),(mx+26,my-2),(mx,my-6),(mx-26,my-2)]),paint(sh=lin((mx-40,my),(mx+40,my),[h[0],h[1],h[2]])))
    if mo>1.2:
        inn=path((mx-mw,my),('c',mx-mw*.5,my-5-mo*.25,mx+mw*.5,my-5-mo*.25,mx+mw,my),('c',mx+mw*.6,my+mo*1.15,mx-mw*.6,my+mo*1.15,mx-mw,my),'z')
        c.drawPath(inn,paint('#3c1518')); c.save(); c.clipPath(inn,True)
        rect(c,mx-mw*.66,my-8-mo*.2,mw*1.32,9+mo*.12,paint('#f1e6d6'),4); oval(c,mx,my+mo*1.05,mw*.55,mo*.42,paint('#b4534f')); c.restore()
    else: c.drawPath(path((mx-mw,my),('q',mx-10,my+3.5,mx,my+2.2),('q',mx+10,my+3.5,mx+mw,my)),paint(L['lipd'],.95,w=2.6))
    ut=my-4-mo*.22; c.drawPath(path((mx-mw-1,my),('c',mx-mw*.5,ut-6,mx-9,ut-9,mx,ut-4.5),('c',mx+9,ut-9,mx+mw*.5,ut-6,mx+mw+1,my),('c',mx+mw*.5,my-3-mo*.27,mx-mw*.5,my-3-mo*.27,mx-mw-1,my),'z'),paint(L['lip'],.92))
    lb=my+mo*.86; c.drawPath(path((mx-mw+2,my+.5),('c',mx-mw*.55,lb+1,mx+mw*.55,lb+1,mx+mw-2,my+.5),('c',mx+mw*.6,lb+13,mx-mw*.6,lb+13,mx-mw+2,my+.5),'z'),paint(L['lip'],1)); oval(c,mx-6,lb+5.5,11,2.6,paint('#ffd7c9',.45,blur=1.6))
    if mo<=1.2: c.drawPath(path((mx-mw,my),('q',mx-10,my-1.5,mx,my+.6),('q',mx+10,my-1.5,mx+mw,my)),paint(L['lipd'],1,w=4.2))
    oval(c,mx,lb+17,20,5,paint(k[2],.45 if not L['beard'] else .1,blur=4))
    for sx in (-1,1): oval(c,mx+sx*(mw+3),my+1,3.5,4,paint(k[2],.5,blur=2))
    # hair front / cap
    if who=='maren':
        fr=smooth([(-98,-14),(-106,-64),(-88,-126),(-40,-164),(14,-172),(70,-154),(106,-104),(110,-40),(102,0),(94,-44),(78,-84),(40,-108),(-6,-110),(-46,-96),(-78,-62),(-88,-34)])
        c.drawPath(fr,paint(sh=lin((-100,-120),(108,-30),['#fbfaf6',h[0],h[1],h[2]],[0,.3,.62,1])))
        c.save(); c.clipPath(fr,True); R=random.Random(8)
        for i in range(84):
            u=i/83; x0=-112+u*224; c.drawPath(path((x0,-20-70*math.sin(u*math.pi)),('q',x0*.8+10,-120-34*math.sin(u*math.pi),x0*.35+34-f*.4,-178)),paint(R.choice(['#ffffff',h[2],h[1],'#5f5e63']),.34,w=R.uniform(1,2.6)))
        c.restore()
        for x0,y0,x1,y1,x2,y2 in ((-96,-20,-106,24,-92,58),(-90,-30,-100,0,-98,34),(100,-16,108,24,96,52)): c.drawPath(path((x0,y0),('q',x1,y1,x2,y2)),paint(h[0] if x0<0 else h[2],.9,w=3))
        c.drawPath(path((-98,-30),('q',-100,-120,-40,-163)),paint('#ffffff',.7,w=4,blur=2))
    elif who=='odile':   # dark bob with a side parting, falls over the ears
        fr=smooth([(-98,10),(-112,-50),(-96,-122),(-44,-164),(14,-174),(76,-156),(114,-106),(118,-40),(112,34),(98,20),(98,-30),(84,-74),(48,-104),(4,-114),(-26,-124),(-52,-92),(-80,-62),(-88,-28)])
        c.drawPath(fr,paint(sh=lin((-110,-130),(118,-20),['#6b5347',h[0],h[1],h[2]],[0,.22,.6,1])))
        c.save(); c.clipPath(fr,True); R=random.Random(6)
        for i in range(70):
            u=i/69; x0=-116+u*236; c.drawPath(path((x0,40-30*math.sin(u*math.pi)),('q',x0*.95,-110-30*math.sin(u*math.pi),-26+x0*.14,-172)),paint(R.choice(['#8a6c5b',h[2],h[1],'#0c0908']),.3,w=R.uniform(1,2.4)))
        c.restore(); c.drawPath(path((-100,-40),('q',-98,-124,-44,-160)),paint('#b99a86',.5,w=5,blur=3))
        for sx in (-1,1): c.drawPath(smooth([(sx*96,0),(sx*116,0),(sx*120,60),(sx*106,126),(sx*86,118),(sx*95,60)]),paint(sh=lin((-118,0),(118,0),[h[0],h[1],h[2]])))
    else:
        for sx in (-1,1): c.drawPath(smooth([(sx*97,-62),(sx*101,-14),(sx*95,26),(sx*86,22),(sx*87,-20),(sx*80,-60)]),paint(h[0] if sx<0 else h[2]))
        cap=smooth([(-112,-60),(-122,-100),(-84,-152),(-10,-172),(70,-160),(118,-112),(114,-64),(60,-84),(0,-90),(-60,-82)])
        c.drawPath(cap,paint(sh=lin((-120,-150),(120,-60),['#8b8a78','#63624f','#33342b'],[0,.45,1])))
        c.save(); c.clipPath(cap,True)
        for i in range(-12,13): c.drawLine(i*14-60,-190,i*14+30,-50,paint('#23241d',.20,w=2)); c.drawLine(i*14+60,-190,i*14-30,-50,paint('#b9b79c',.13,w=2))
        c.restore()
        br=smooth([(-108+f*.3,-70),(-60+f*.7,-92),(f,-98),(64+f*.7,-92),(108+f*.3,-70),(70+f,-56),(f*1.4,-50),(-70+f,-56)])
        c.drawPath(br,paint(sh=lin((-110,-90),(110,-50),['#6f6e5b','#4a4a3b','#24251e']))); oval(c,f*1.1,-44,74,9,paint('#2a150c',.35,blur=7))
    c.restore()

# camera set-ups: bg pan, scale, person position/scale, yaw
CAM={'A':dict(bgx=0,bgs=1.0,bl=7,px=770,py=330,ps=1.06,yaw=-.42),
     'B':dict(bgx=830,bgs=1.25,bl=11,px=500,py=372,ps=1.62,yaw=.72)}
CAM['tobin']=dict(bgx=0,bgs=1.0,bl=6,px=500,py=345,ps=1.12,yaw=.38)
CAM['odile']=dict(bgx=0,bgs=1.0,bl=6,px=760,py=352,ps=1.18,yaw=-.30)
_bg={}
def bg(cam):
    if cam not in _bg:
        import places
        C=CAM[cam]; s=surf(); c=s.getCanvas(); im=blurred(getattr(places,cam)() if cam in('tobin','odile') else shed(),C['bl']); w=W/C['bgs']; h=H/C['bgs']
        c.drawImageRect(im,skia.Rect.MakeXYWH(C['bgx']*1.0 if C['bgs']==1 else min(C['bgx'],1900-w),(H-h)*.35,w,h),skia.Rect.MakeWH(W,H),skia.SamplingOptions(skia.FilterMode.kLinear))
        c.drawRect(skia.Rect.MakeWH(W,H),paint(sh=lin((0,0),(W,0),[col('ffdca0',.16),col('203040',.28)])))
        _bg[cam]=s.makeImageSnapshot()
    return _bg[cam]
def interview(c,who,cam,t,mouth=0,wide=0,blink=0,tilt=0,dx=0,dy=0,gaze=0,breath=0,brow=0,gk=None):
    C=CAM[cam]; c.drawImage(bg(cam),0,0); c.save(); c.translate(C['px'],C['py']); c.scale(C['ps'],C['ps'])
    person(c,who,t,mouth,wide,blink,C['yaw']+dx*.012,tilt,dx,dy,gaze,breath,brow); c.restore(); vignette(c)
    if gk is not None: grain(c,*gk)
